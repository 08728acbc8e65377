// DbfOpener.cs: opens folders of .dbf tables.
using Transferra.Core.Machine;
using Transferra.Core.Records;
using Transferra.Stores.Files;

namespace Transferra.Stores.Dbf;

internal sealed class DbfOpener : IEngineOpener
{
    public string Name => "dbf";

    private readonly KnownOfFiles<DbfScan> _scans = new();

    public IStore Open(StoreAddress address, string? textEncoding) => DbfStore.Open(address.Path, textEncoding, _scans);

    public IStoreBuilder Create(StoreAddress address, string? textEncoding, bool keysFirst) =>
        DbfStoreBuilder.Create(address.Path, textEncoding);

    public IStoreBuilder Continue(StoreAddress address, IReadOnlyList<TableShape> tables, BuildMark mark, string? textEncoding,
        bool keysFirst) => DbfStoreBuilder.Continue(address.Path, tables, mark, textEncoding);

    public IStoreJudge JudgeOf(StoreAddress address, string? textEncoding)
    {
        var writers = new Dictionary<string, DbfTableWriter>();
        return new RuleJudge("a .dbf table", tables => [.. tables.Select(table => Try(() => Writer(table))).OfType<string>()],
            (outputs, rows, rejects) =>
        {
            foreach (int row in Specials.Hold(outputs, rows, rejects, "a .dbf table"))
                foreach (TableOutput output in outputs)
                    if (Writer(output.Table).Prepare(output.Vectors, row) is { } refused)
                    {
                        rejects.Add(refused);
                        break;
                    }
        }, KeepsKeys: false);

        DbfTableWriter Writer(TableShape table) => writers.TryGetValue(table.Name, out DbfTableWriter? known) ? known
            : writers[table.Name] = DbfTableWriter.ToNowhere(AnyValue.OneKind(table), TextPages.OfTable(textEncoding,
                table.Name));
    }

    private static string? Try(Action make)
    {
        try
        {
            make();
            return null;
        }
        catch (TransferraException error) { return error.Message; }
    }

    public void Copy(StoreAddress from, StoreAddress to) => StoreFiles.Copy(from.Path, to.Path);

    // The engines' own indexes would not know the new records.
    public BuildMark Revise(StoreAddress copy, StoreRevision revision, string? textEncoding) =>
        FolderRevision.Run(copy.Path, revision, ".dbf", ".fpt", ".dbt", ".smt", ".cdx", ".mdx", ".ntx", ".ndx", ".idx", ".cpg");

    public IStoreMender Mend(StoreAddress copy, string? textEncoding) => new DbfMender(copy.Path, textEncoding);
}
