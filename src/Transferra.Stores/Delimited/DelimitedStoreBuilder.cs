// DelimitedStoreBuilder.cs: a new folder of delimited text, for packages whose only way in is an import file.
// Holds: (1) a row goes to all its tables or to none; (2) what is written reads back as the same values, missing ones and empty texts
// told apart, or the row is refused; (3) when Complete returns, every file is on the disk; without Complete or a mark, nothing of the
// folder is left.
using System.Globalization;
using System.Text;
using Transferra.Core.Expressions;
using Transferra.Core.Machine;
using Transferra.Core.Records;
using Transferra.Stores.Files;

namespace Transferra.Stores.Delimited;

internal sealed class DelimitedStoreBuilder : IStoreBuilder
{
    private sealed record TableFile(FileStream File)
    {
        public long Rows { get; set; }
    }

    private readonly string _folder;
    private readonly DelimitedForm _form;
    private readonly Encoding _encoding;
    private readonly DateTemplate _dates;
    private readonly string _mustQuote;
    private readonly Dictionary<string, TableFile> _tables = [];
    private CopyRest? _copy; // null unless the folder began as a copy
    private bool _isKept;

    private DelimitedStoreBuilder(string folder, DelimitedForm form)
    {
        (_folder, _form) = (folder, form);
        _dates = DateTemplate.Parse(form.Dates);
        _encoding = form.Encoding switch
        {
            "utf-8" => new UTF8Encoding(false, true),
            "utf-16" => new UnicodeEncoding(false, true, true),
            _ => TextEncodings.ByName(form.Encoding)
        };
        _mustQuote = $"{form.Separator}{form.Quote}\r\n";
    }

    public static DelimitedStoreBuilder Create(StoreAddress address, string? textEncoding)
    {
        if (Path.Exists(address.Path))
            throw new TransferraException($"{address.Path} is there already; a new store is never written over another",
                "Move it away, then try again.");
        var builder = new DelimitedStoreBuilder(address.Path, FormOf(address, textEncoding));
        Directory.CreateDirectory(address.Path);
        return builder;
    }

    /// <summary>Goes on with a folder that was begun.</summary>
    public static DelimitedStoreBuilder Continue(StoreAddress address, IReadOnlyList<TableShape> tables, BuildMark mark,
        string? textEncoding)
    {
        BegunStore.RemoveOthers(address.Path, mark);
        var builder = new DelimitedStoreBuilder(address.Path, FormOf(address, textEncoding)) { _isKept = true, _copy = mark.Copy };
        try
        {
            foreach ((TableShape shape, BuiltTable built) in BegunStore.Tables(address.Path, tables, mark))
                builder._tables.Add(shape.Name, new TableFile(BegunStore.OpenAt(builder.PathOf(shape.Name), built.Ends[0]))
                {
                    Rows = built.Rows
                });
            return builder;
        }
        catch
        {
            builder.Dispose();
            throw;
        }
    }

    /// <inheritdoc/>
    public BuildMark Mark()
    {
        foreach (TableFile table in _tables.Values) table.File.Flush(flushToDisk: true);
        new DiskVolume().FlushFolder(_folder);
        _isKept = true;
        return new BuildMark(_tables.ToDictionary(table => table.Key, table => new BuiltTable(table.Value.Rows,
            [table.Value.File.Length])))
        {
            Copy = _copy
        };
    }

    private string PathOf(string table) => Path.Combine(_folder, table + (_form.Separator == '\t' ? ".tsv" : ".csv"));

    private static DelimitedForm FormOf(StoreAddress address, string? textEncoding)
    {
        DelimitedForm form = DelimitedForm.Standard.With(address.Options);
        return textEncoding is not null && !address.Options.ContainsKey("encoding") ? form with { Encoding = textEncoding } : form;
    }

    /// <summary>Finds rows that would not read back as they are.</summary>
    public static RowRule Judge(StoreAddress address, string? textEncoding)
    {
        var builder = new DelimitedStoreBuilder("", FormOf(address, textEncoding));
        return (outputs, rows, rejects) =>
        {
            foreach (int row in rows)
                foreach (TableOutput output in outputs)
                    if (builder.Line(output, row, out _) is { } refused)
                    {
                        rejects.Add(refused);
                        break;
                    }
        };
    }

    public void CreateTable(TableShape table)
    {
        table = AnyValue.OneKind(table);
        if (table.Name.Length == 0 || table.Name.AsSpan().IndexOfAny('/', '\0') >= 0)
            throw new TransferraException($"{ValueText.Quote(table.Name)} cannot be the name of a file",
                "Name the table otherwise in the kit's version file.");
        var file = new FileStream(PathOf(table.Name), FileMode.CreateNew, FileAccess.Write, FileShare.None, 1 << 16);
        _tables.Add(table.Name, new TableFile(file));
        file.Write(_encoding.GetPreamble());
        if (_form.HasHeader) file.Write(_encoding.GetBytes(string.Join(_form.Separator,
            table.Columns.Select(column => Quoted(column.Name))) + "\r\n"));
    }

    public void Write(IReadOnlyList<TableOutput> outputs, ReadOnlySpan<int> rows, List<RowReject> rejects)
    {
        outputs = AnyValue.OneKind(outputs, ref rows, rejects, "delimited text");
        var lines = new byte[outputs.Count][];
        foreach (int row in rows)
        {
            RowReject? reject = null;
            for (int i = 0; i < outputs.Count && reject is null; i++) reject = Line(outputs[i], row, out lines[i]);
            if (reject is { } refused)
            {
                rejects.Add(refused);
                continue;
            }
            try
            {
                for (int i = 0; i < outputs.Count; i++)
                {
                    TableFile table = _tables[outputs[i].Table.Name];
                    table.File.Write(lines[i]);
                    table.Rows++;
                }
            }
            catch (IOException error)
            {
                throw new TransferraException($"writing {_folder} stopped: {error.Message}",
                    "Look for room on the disk and for its health. The old data is untouched; the half-written new store is removed.",
                        error);
            }
        }
    }

    private RowReject? Line(TableOutput output, int row, out byte[] line)
    {
        var text = new StringBuilder();
        line = [];
        for (int i = 0; i < output.Vectors.Count; i++)
        {
            if (i > 0) text.Append(_form.Separator);
            Vector vector = output.Vectors[i];
            if (vector.IsNull(row)) text.Append(_form.Null);
            else if (Field(vector, row) is { } field) text.Append(field);
            else return Refused(output, row, output.Table.Columns[i].Name, FaultCode.NotADate,
                $"the template {_form.Dates} would not read back as the same day");
        }
        if (text.Length == 0)
            return Refused(output, row, output.Table.Columns[0].Name, FaultCode.MissingValue,
                "an empty line is not a record; give the store a text for missing values (null)");
        text.Append("\r\n");
        try
        {
            line = _encoding.GetBytes(text.ToString());
            return null;
        }
        catch (EncoderFallbackException)
        {
            return Refused(output, row, "a text", FaultCode.NotText, $"a character is not in {_form.Encoding}");
        }
    }

    private static RowReject Refused(TableOutput output, int row, string column, FaultCode code, string why) =>
        new(row, code, $"the new table {output.Table.Name} cannot hold {column} exactly: {why}");

    // Null when a date cannot be written.
    private string? Field(Vector vector, int row) => vector switch
    {
        BytesVector { Type.Kind: FieldKind.Text } bytes => Quoted(Encoding.UTF8.GetString(bytes[row])),
        BytesVector { Type.Kind: FieldKind.Binary } bytes => Quoted(Convert.ToHexString(bytes[row])),
        LongVector { Type.Kind: FieldKind.Date } dates when Specials.Is(dates.Values[row]) => Quoted(Specials.Show(dates.Values[row])),
        LongVector { Type.Kind: FieldKind.Date } dates => _dates.Write(dates.Values[row]) is { } date ? Quoted(date) : null,
        WideVector { Type.Kind: FieldKind.Decimal } wides => Quoted(DecimalText.Format(wides.Values[row], wides.Type.Scale)
            .Replace('.', _form.DecimalMark)),
        DoubleVector doubles => Quoted(doubles.Values[row].ToString("R", CultureInfo.InvariantCulture)),
        _ => Quoted(vector.Show(row)),
    };

    // Quotes where the text would otherwise be cut, trimmed by careless readers, or taken for a missing value.
    private string Quoted(string text)
    {
        bool plain = text.Length > 0 && text != _form.Null && text[0] != ' ' && text[^1] != ' ' && text.AsSpan().IndexOfAny(_mustQuote) < 0;
        string quote = _form.Quote.ToString();
        return plain ? text : quote + text.Replace(quote, quote + quote, StringComparison.Ordinal) + quote;
    }

    public void Complete(IReadOnlyDictionary<string, string> headerFields)
    {
        foreach (TableFile table in _tables.Values)
        {
            table.File.Flush(flushToDisk: true);
            table.File.Dispose();
        }
        _isKept = true;
    }

    public void Dispose()
    {
        foreach (TableFile table in _tables.Values) table.File.Dispose();
        if (!_isKept && Directory.Exists(_folder)) Directory.Delete(_folder, recursive: true);
    }
}
