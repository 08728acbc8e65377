// DelimitedForm.cs: how a folder's delimited text files are written: separator, encoding, numbers, dates. Keys: docs/formats/delimited.md.
using System.Globalization;
using System.Text;
using Transferra.Core.Machine;
using Transferra.Core.Records;

namespace Transferra.Stores.Delimited;

/// <summary>How values stand in the files.</summary>
/// <param name="Separator">Between two fields; one ASCII character.</param>
/// <param name="Quote">Around a field that has separators, quotes or line ends in it; doubled inside.</param>
/// <param name="Encoding">utf-8, utf-16, or a code page of <see cref="TextEncodings"/>.</param>
/// <param name="HasHeader">Whether the first record names the columns.</param>
/// <param name="DecimalMark">Before the decimals; '.' or ','.</param>
/// <param name="Dates">Template of dates, as in CAST ... FORMAT.</param>
/// <param name="Null">What an unquoted field says that has no value; a quoted one is always a value.</param>
internal sealed record DelimitedForm(char Separator, char Quote, string Encoding, bool HasHeader, char DecimalMark, string Dates,
    string Null)
{
    /// <summary>RFC 4180 in UTF-8, with ISO dates; what a new store is written in unless office.yaml says otherwise.</summary>
    public static readonly DelimitedForm Standard = new(',', '"', "utf-8", true, '.', "YYYY-MM-DD", "");

    /// <summary>This form with what office.yaml says in place of its own.</summary>
    /// <exception cref="TransferraException">A value makes no sense.</exception>
    public DelimitedForm With(IReadOnlyDictionary<string, string> options)
    {
        DelimitedForm form = this;
        foreach ((string key, string value) in options)
        {
            form = key switch
            {
                "separator" => form with { Separator = value is "tab" ? '\t' : One(key, value) },
                "quote" => form with { Quote = One(key, value) },
                "encoding" when value is "utf-8" or "utf-16" || TextEncodings.IsKnown(value) => form with { Encoding = value },
                "header" when value is "yes" or "no" or "true" or "false" => form with { HasHeader = value is "yes" or "true" },
                "decimal-mark" when value is "." or "," => form with { DecimalMark = value[0] },
                "dates" => form with { Dates = DateForm.Checked(value) },
                "null" => form with { Null = value },
                _ => throw new TransferraException($"the store's {key} cannot be {ValueText.Quote(value)}",
                    "See docs/formats/delimited.md for what it can be; correct it in office.yaml."),
            };
        }
        if (form.Separator == form.Quote) throw new TransferraException("the store's separator and quote are the same character",
            "Correct one of them in office.yaml.");
        return form;
    }

    private static char One(string key, string value) => value.Length == 1 && value[0] is > ' ' and < '\u007F' or '\t' ? value[0]
        : throw new TransferraException($"the store's {key} is {ValueText.Quote(value)}, and has to be one plain character, or tab",
            "Correct it in office.yaml.");

    /// <summary>The encoding of the files; a byte order mark at their beginning tells better.</summary>
    public Encoding TextEncoding => Encoding switch
    {
        "utf-8" => new UTF8Encoding(false, false),
        "utf-16" => new UnicodeEncoding(false, true, false),
        _ =>
        TextEncodings.ByName(Encoding)
    };

    /// <summary>In words, for the survey.</summary>
    public override string ToString() => string.Create(CultureInfo.InvariantCulture,
        $"separator {(Separator == '\t' ? "tab" : Separator)}, {Encoding}, {(HasHeader ? "with" : "without")} header, decimal mark "
            + $"{DecimalMark}, dates {Dates}");
}
