// DelimitedStore.cs: a folder of delimited text files opened for reading only; each .csv, .tsv or .txt file is a table named after it.
// Holds: (1) nothing is written; (2) a file that somebody changes while it is read is refused, as files have no snapshot.
using System.Globalization;
using Transferra.Core.Machine;
using Transferra.Core.Records;
using Transferra.Stores.Files;

namespace Transferra.Stores.Delimited;

internal sealed class DelimitedStore : FileStore<DelimitedTable>
{
    /// <summary>How files of tables end.</summary>
    public static readonly string[] Endings = [".csv", ".tsv", ".txt"];

    private DelimitedStore(string folder, IReadOnlyList<DelimitedTable> tables, DelimitedForm form, bool isGuess) : base(folder,
        "a folder of delimited text", tables)
    {
        var facts = new Dictionary<string, string> { ["form"] = form.ToString() };
        if (isGuess) facts[StoreIdentity.Guess] = form.ToString();
        Identity = new StoreIdentity("Delimited", "text", tables.Sum(table => new FileInfo(table.FilePath).Length), facts);
    }

    public override StoreIdentity Identity { get; }

    public static DelimitedStore Open(StoreAddress address, string? textEncoding, KnownOfFiles<long> counts)
    {
        if (!Directory.Exists(address.Path))
            throw new TransferraException(File.Exists(address.Path)
                ? $"{address.Path} is a file, not a folder of delimited text" : $"the store {address.Path} is not there",
                "Correct the path of the store in office.yaml.");
        IReadOnlyList<string> files = TableFiles.In(address.Path, Endings);
        if (files.Count == 0)
            throw new TransferraException($"there is no {string.Join(", ", Endings)} file in {address.Path}",
                "Correct the path of the store in office.yaml, or have the old program export its data there.");
        // What is not said is guessed, and the guess is shown; what is said, in office.yaml or by the kit, stands.
        bool isGuess = address.Options.Count == 0;
        DelimitedForm form = isGuess ? DelimitedGuess.Of(files) : DelimitedForm.Standard.With(address.Options);
        bool isByKit = textEncoding is not null && !address.Options.ContainsKey("encoding");
        if (isByKit && TextPages.OfAll(textEncoding) is { } page) form = form with { Encoding = page };
        return new DelimitedStore(address.Path, [.. files.Select(file => new DelimitedTable(file, isByKit ? form with
        {
            Encoding = TextPages.OfTable(textEncoding, Path.GetFileNameWithoutExtension(file))
                ?? (TextPages.OfAll(textEncoding) is null ? form.Encoding : "utf-8")
        } : form, counts))], form, isGuess);
    }

    public override IReadOnlyList<string> CheckPhysically()
    {
        var complaints = new List<string>();
        foreach (DelimitedTable table in Tables)
        {
            using DelimitedParser parser = table.OpenParser();
            while (parser.Next())
            {
                if (parser.Fault.Length > 0) complaints.Add(string.Create(CultureInfo.InvariantCulture,
                    $"{table.FilePath}, line {parser.Line}: {parser.Fault}"));
                else if (parser.FieldCount != table.Columns.Count)
                    complaints.Add(string.Create(CultureInfo.InvariantCulture,
                        $"{table.FilePath}, line {parser.Line}: there are {parser.FieldCount} fields and not {table.Columns.Count}"));
            }
        }
        return complaints;
    }
}
