using System.Globalization;
using Transferra.Core.Conversion;
using Transferra.Core.Kits;
using Transferra.Core.Matching;
using Transferra.Core.Means;
using Transferra.Core.Records;
using Transferra.Tests;
using static Transferra.Stores.Tests.Planting;

namespace Transferra.Stores.Tests;

/// <summary>Single changes planted in the new store of each engine behind a map that changes tables, names, types and numbers: all of them
/// are found, where they are and as what they are, and nothing else is.</summary>
public sealed class PlantedThroughMapTests(ITestOutputHelper output) : IDisposable
{
    private const int Records = 240, Rounds = 5, Accounts = 7;

    private const string Old = """
        version: "1"
        told-by: [{header: user_version, is: "1"}]
        tables:
          JRNL:
            columns: {JNO: INTEGER NOT NULL, NAME: VARCHAR(40), TOWN: VARCHAR(40), JDATE: VARCHAR(8), DR: VARCHAR(12), CR: VARCHAR(12),
              ACODE: VARCHAR(4)}
            key: [JNO]
          ACCTS:
            columns: {ACODE: VARCHAR(4) NOT NULL, ID: INTEGER NOT NULL}
            key: [ACODE]
        """;

    private const string New = """
        version: "2"
        told-by: [{header: user_version, is: "2"}]
        tables:
          account:
            columns: {account_id: INTEGER NOT NULL, code: VARCHAR(4)}
            key: [account_id]
          entry:
            columns: {entry_no: INTEGER NOT NULL, name: VARCHAR(60), town: VARCHAR(60), posted_on: DATE, amount: "DECIMAL(12,2)",
              account_id: INTEGER}
            key: [entry_no]
            relations: [{columns: [account_id], to: account, on: [account_id]}]
          loose:
            columns: {entry_no: INTEGER NOT NULL, name: VARCHAR(60), town: VARCHAR(60), posted_on: DATE, amount: "DECIMAL(12,2)"}
        """;

    private const string Hop = """
        hop: {from: "1", to: "2"}
        tables:
          - from: JRNL
            lookups: {account: {by: ACODE, table: ACCTS, on: ACODE}}
            into:
              entry:
                entry_no: JNO
                name: {is: TRIM(TRAILING FROM NAME), changes: blanks removed}
                town: TOWN
                posted_on: CAST(JDATE AS DATE FORMAT 'DD/MM/RR')
                amount: CAST(DR AS DECIMAL(12,2)) - CAST(CR AS DECIMAL(12,2))
                account_id: account.ID
              loose:
                entry_no: JNO
                name: {is: TRIM(TRAILING FROM NAME), changes: blanks removed}
                town: TOWN
                posted_on: CAST(JDATE AS DATE FORMAT 'DD/MM/RR')
                amount: CAST(DR AS DECIMAL(12,2)) - CAST(CR AS DECIMAL(12,2))
          - from: ACCTS
            into: {account: {account_id: ID, code: ACODE}}
        """;

    private readonly TempFolder _folder = new();
    private readonly TestServers _servers = new();

    public void Dispose()
    {
        _servers.Dispose();
        _folder.Dispose();
    }

    private static DateOnly DayOf(int no) => new(2001, 1 + (no % 11), 14 + (no % 9));

    // As the map gives them: entry_no, name, town, posted_on, amount, account_id.
    private static object?[] Record(int no) => [no, $"Café Brook {no}", $"Little Town {no % 40}", DayOf(no), (no * 100m + 45) / 100,
        100 + (no % Accounts)];

    private static readonly (ChangeKind Kind, string[] In, Func<object?[], object?[]?> Change)[] Plants =
    [
        (ChangeKind.Cut, ["name"], row => With(row, 1, ((string)row[1]!)[..5])),
        (ChangeKind.Blanks, ["name"], row => With(row, 1, row[1] + " ")),
        (ChangeKind.Case, ["name"], row => With(row, 1, ((string)row[1]!).ToUpperInvariant())),
        (ChangeKind.Accents, ["name"], row => With(row, 1, ((string)row[1]!).Replace("é", "e\u0301", StringComparison.Ordinal))),
        (ChangeKind.CodePage, ["name"], row => With(row, 1, ((string)row[1]!).Replace("é", "\u00C3\u00A9", StringComparison.Ordinal))),
        (ChangeKind.Swapped, ["name", "town"], row => With(With(row, 1, row[2]), 2, row[1])),
        (ChangeKind.Gone, ["town"], row => With(row, 2, null)),
        (ChangeKind.Day, ["posted_on"], row => With(row, 3, ((DateOnly)row[3]!).AddDays(-1))),
        (ChangeKind.Century, ["posted_on"], row => With(row, 3, ((DateOnly)row[3]!).AddYears(-100))),
        (ChangeKind.Sign, ["amount"], row => With(row, 4, -(decimal)row[4]!)),
        (ChangeKind.Other, ["amount"], row => With(row, 4, (decimal)row[4]! + 0.01m)),
        (ChangeKind.Point, ["amount"], row => With(row, 4, (decimal)row[4]! * 10)),
        (ChangeKind.Rounded, ["amount"], row => With(row, 4, Math.Floor((decimal)row[4]!))),
        (ChangeKind.Other, ["account_id"], row => With(row, 5, 100 + (((int)row[5]! - 99) % Accounts))),
        (ChangeKind.Missing, [""], _ => null),
    ];

    private Correspondence LoadHop()
    {
        _folder.Write("kit/kit.yaml", "kit: planted\ntitle: Planted\nversions: [\"1\", \"2\"]\nhops: [1-to-2]\n");
        _folder.Write("kit/versions/1.yaml", Old);
        _folder.Write("kit/versions/2.yaml", New);
        _folder.Write("kit/hops/1-to-2.yaml", Hop);
        var errors = new DescriptionErrors();
        Kit? kit = KitLoader.Load(_folder["kit"], "kit", KnownKinds.All, errors);
        errors.ThrowIfAny();
        return kit!.Hops[0].Correspondence;
    }

    private static MemoryStore OldStore(Correspondence hop) => new MemoryStore()
        .With(hop.From.Table("JRNL")!, [.. Enumerable.Range(1, Records).Select(no => (object?[])[(long)no, $"Café Brook {no}  ",
            $"Little Town {no % 40}", DayOf(no).ToString("dd'/'MM'/'yy", CultureInfo.InvariantCulture),
            (no + 1).ToString(CultureInfo.InvariantCulture) + ".45", "1.00", "A" + (no % Accounts)])])
        .With(hop.From.Table("ACCTS")!, [.. Enumerable.Range(0, Accounts).Select(id => (object?[])["A" + id, 100L + id])]);

    // In SQLite the new store keeps an amount as a whole number of its smallest unit.
    private static string Literal(string engine, object? value) => value switch
    {
        null => "NULL",
        string text => $"'{text}'",
        DateOnly day => $"'{day:yyyy-MM-dd}'",
        decimal amount => engine == "sqlite" ? ((long)(amount * 100)).ToString(CultureInfo.InvariantCulture)
            : amount.ToString("0.00", CultureInfo.InvariantCulture),
        _ => Convert.ToString(value, CultureInfo.InvariantCulture)!
    };

    private static string Quoted(string engine, string name) => engine == "mariadb" ? $"`{name}`" : $"\"{name}\"";

    // In place of what is there.
    private static IEnumerable<string> Put(string engine, string table, int no, object?[]? row)
    {
        yield return $"DELETE FROM {Quoted(engine, table)} WHERE {Quoted(engine, "entry_no")} = {no}";
        if (row is not null) yield return $"INSERT INTO {Quoted(engine, table)} VALUES ("
            + string.Join(", ", row.Take(table == "loose" ? 5 : 6).Select(value => Literal(engine, value))) + ")";
    }

    [Theory]
    [InlineData("sqlite")]
    [InlineData("postgresql")]
    [InlineData("mariadb")]
    [InlineData("firebird")]
    public void Every_single_change_behind_a_map_is_found_where_it_is_and_as_what_it_is(string engine)
    {
        var random = new Random(Seeds.Given);
        output.WriteLine($"seed {Seeds.Given}");
        Correspondence hop = LoadHop();
        using MemoryStore old = OldStore(hop);
        StoreAddress place = engine == "sqlite" ? new StoreAddress("sqlite", _folder["new.db"]) : _servers.Database(engine, "mapped");
        var stores = new StoreOpener();
        using (IStoreBuilder builder = stores.Create(place))
            Assert.Equal(0, ConversionPass.Run(old, builder, hop, new Dictionary<string, string>(), _ => { }, new ListObserver(),
                CancellationToken.None).Exceptions);
        (int planted, int right) = (0, 0);
        for (int round = 0; round <= Rounds; round++)
        {
            // The last one is without any.
            var touched = new List<(string Table, int No)>();
            var expected = new List<(string Place, ChangeKind Kind)>();
            var statements = new List<string>();
            int[] entries = new int[100 + Accounts]; // how many more an account has
            foreach (string table in round == Rounds ? [] : (string[])["entry", "loose"])
                foreach (int no in Enumerable.Range(1, Records).Where(_ => random.Next(5) == 0).ToArray())
                {
                    (ChangeKind kind, string[] columns, Func<object?[], object?[]?> change) = Plants[random.Next(Plants.Length)];
                    if (table == "loose" && columns[0] == "account_id") continue;
                    touched.Add((table, no));
                    object?[]? row = change(Record(no));
                    if (table == "entry") entries[(int)Record(no)[5]!]--;
                    if (table == "entry" && row is not null) entries[(int)row[5]!]++;
                    statements.AddRange(Put(engine, table, no, row));
                    expected.AddRange(columns.Select(column => ($"{table} {(table == "entry" ? $"{no} " : "")}{column}", kind)));
                }
            Run(place, statements);
            var found = new List<(string Place, ChangeKind Kind)>();
            MatchResult match;
            using (IStore renewed = stores.Open(place))
                match = new CompanyMatch(hop, new Dictionary<string, string>(), new ListObserver(), CancellationToken.None)
                { Every = one => found.Add(($"{one.Table} {(one.Table == "loose" ? "" : one.Key + " ")}{one.Column}", one.Change)) }
                    .Run(old, renewed);
            Assert.Equal(expected.Count == 0, match.IsSame);
            // All of them, where they are, and nothing else.
            Assert.Equal(expected.Select(one => one.Place).Order(StringComparer.Ordinal), found.Select(one => one.Place)
                .Order(StringComparer.Ordinal));
            Assert.Equal(entries.Index().Where(one => one.Item != 0).Select(one => new ParentChange($"{one.Index}", one.Item)).ToHashSet(),
                [.. Assert.Single(match.Children).First]);
            planted += expected.Count;
            right += expected.GroupBy(one => one).Sum(same => Math.Min(same.Count(), found.Count(one => one == same.Key)));
            Run(place, touched.SelectMany(one => Put(engine, one.Table, one.No, Record(one.No))));
        }
        output.WriteLine($"{right} of {planted} under their kind");
        Assert.True(planted > 250, $"{planted}");
        Assert.True(right >= planted * 0.95, $"{right} of {planted}");
    }
}
