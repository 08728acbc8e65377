// StoreJudges.cs: for each engine, what it will not take; the same rules by which its builder refuses, and those by which the engine
// itself does.
using Transferra.Core.Machine;
using Transferra.Core.Records;
using Transferra.Stores.Dbf;
using Transferra.Stores.Delimited;
using Transferra.Stores.Firebird;
using Transferra.Stores.Mariadb;
using Transferra.Stores.Postgresql;
using Transferra.Stores.Servers;
using Transferra.Stores.Sqlite;

namespace Transferra.Stores;

/// <summary>A judge put together from rules.</summary>
/// <param name="Engine">The engine's name, for messages.</param>
/// <param name="Rules">Names that the engine takes.</param>
/// <param name="Rows">Finds rows that it does not take.</param>
/// <param name="KeepsKeys">Whether it refuses a second record with the same key.</param>
/// <param name="IgnoresTrailingBlanks">Whether blanks at the end make no other key.</param>
/// <param name="HoldsAnyKind">Whether a column may hold values of several kinds.</param>
internal sealed record RuleJudge(string Engine, Func<IReadOnlyList<TableShape>, IReadOnlyList<string>> Rules, StoreJudges.RowRule Rows,
    bool KeepsKeys = true, bool IgnoresTrailingBlanks = false, bool HoldsAnyKind = false)
    : IStoreJudge
{
    public IReadOnlyList<string> Complaints(IReadOnlyList<TableShape> tables) => Rules(tables);

    public void Judge(IReadOnlyList<TableOutput> outputs, ReadOnlySpan<int> rows, ICollection<RowReject> rejects)
    {
        if (!HoldsAnyKind) outputs = AnyValue.OneKind(outputs, ref rows, rejects, Engine);
        Rows(outputs, rows, rejects);
    }
}

internal static class StoreJudges
{
    public delegate void RowRule(IReadOnlyList<TableOutput> outputs, ReadOnlySpan<int> rows, ICollection<RowReject> rejects);

    /// <summary>The judge of an engine; null for one that no new store is made on.</summary>
    public static IStoreJudge? Of(StoreAddress address, string? textEncoding) => address.Engine switch
    {
        "sqlite" => new RuleJudge("SQLite", new NameRules("SQLite", 0, 0, 2000, DistinguishesCase: false).Complaints,
            (outputs, rows, rejects) => SqliteStoreBuilder.Hold(outputs, rows, rejects), HoldsAnyKind: true),
        "postgresql" => new RuleJudge("PostgreSQL", new NameRules("PostgreSQL", 63, 0, 1600, DistinguishesCase: true).Complaints,
            (outputs, rows, rejects) => PgStoreBuilder.Takeable(outputs, rows, rejects)),
        "mariadb" => new RuleJudge("MariaDB", new NameRules("MariaDB", 0, 64, 1017, DistinguishesCase: false).Complaints, MariaTypes.Judge),
        "firebird" => new RuleJudge("Firebird", new NameRules("Firebird", 31, 0, 1500, DistinguishesCase: true).Complaints, FbTypes.Judge,
            IgnoresTrailingBlanks: true),
        "dbf" => OfDbf(textEncoding),
        "delimited" => new RuleJudge("delimited text", _ => [], DelimitedStoreBuilder.Judge(address, textEncoding), KeepsKeys: false),
        "json-lines" => new RuleJudge("a table of JSON lines", _ => [], (outputs, rows, rejects) => Specials.Hold(outputs, rows, rejects,
            "JSON"), KeepsKeys: false),
        "workbook" => new RuleJudge("a workbook", _ => ["a workbook can be read, but no new store is written as one"], (_, _, _) => { },
            KeepsKeys: false),
        _ => null,
    };

    private static RuleJudge OfDbf(string? textEncoding)
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
            : writers[table.Name] = DbfTableWriter.ToNowhere(AnyValue.OneKind(table), textEncoding);
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
}
