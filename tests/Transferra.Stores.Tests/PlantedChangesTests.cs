using System.Globalization;
using Transferra.Core.Matching;
using Transferra.Core.Records;
using Transferra.Core.Runs;
using Transferra.Tests;
using static Transferra.Stores.Tests.Planting;

namespace Transferra.Stores.Tests;

/// <summary>Single changes planted in one of two equal stores of each engine: all of them are found, where they are and as what they are,
/// and nothing else is.</summary>
public sealed class PlantedChangesTests(ITestOutputHelper output) : IDisposable
{
    private const int Records = 300, Rounds = 10;

    private readonly TempFolder _folder = new();
    private readonly TestServers _servers = new();

    public void Dispose()
    {
        _servers.Dispose();
        _folder.Dispose();
    }

    // id (the key of one table, only a name in the other), name, town, born, amount, quantity, seen, note.
    private static object?[] Record(int no) => [no, $"Café Brook {no}", $"Little Town {no % 40}", new DateOnly(2001, 1 + (no % 11), 1
        + (no % 12)
        + (no % 12 == no % 11 ? 1 : 0)), (no * 1000m + 345) / 1000, no * 3, new DateTime(2024, 3, 1 + (no % 28), no % 20, no % 60, 0),
        $"first line {no}\nsecond line\nthird"];

    // What a change is, and the values of a record after it; of a record that is not there any more none.
    private static readonly (ChangeKind Kind, string[] In, Func<object?[], object?[]?> Change)[] Plants =
    [
        (ChangeKind.Cut, ["name"], row => With(row, 1, ((string)row[1]!)[..5])),
        (ChangeKind.Blanks, ["name"], row => With(row, 1, row[1] + " ")),
        (ChangeKind.Case, ["name"], row => With(row, 1, ((string)row[1]!).ToUpperInvariant())),
        (ChangeKind.Accents, ["name"], row => With(row, 1, ((string)row[1]!).Replace("é", "e\u0301", StringComparison.Ordinal))),
        (ChangeKind.CodePage, ["name"], row => With(row, 1, ((string)row[1]!).Replace("é", "\u00C3\u00A9", StringComparison.Ordinal))),
        (ChangeKind.Swapped, ["name", "town"], row => With(With(row, 1, row[2]), 2, row[1])),
        (ChangeKind.Day, ["born"], row => With(row, 3, ((DateOnly)row[3]!).AddDays(1))),
        (ChangeKind.DayAndMonth, ["born"], row => With(row, 3, new DateOnly(2001, ((DateOnly)row[3]!).Day, ((DateOnly)row[3]!).Month))),
        (ChangeKind.Century, ["born"], row => With(row, 3, ((DateOnly)row[3]!).AddYears(-100))),
        (ChangeKind.Sign, ["amount"], row => With(row, 4, -(decimal)row[4]!)),
        (ChangeKind.Other, ["amount"], row => With(row, 4, (decimal)row[4]! + 0.01m)),
        (ChangeKind.Point, ["amount"], row => With(row, 4, (decimal)row[4]! * 10)),
        (ChangeKind.Rounded, ["amount"], row => With(row, 4, Math.Round((decimal)row[4]!, 1))),
        (ChangeKind.Gone, ["quantity"], row => With(row, 5, null)),
        (ChangeKind.Hours, ["seen"], row => With(row, 6, ((DateTime)row[6]!).AddHours(1))),
        (ChangeKind.LineOrder, ["note"], row => With(row, 7, string.Join('\n', ((string)row[7]!).Split('\n').Reverse()))),
        (ChangeKind.Gone, ["note"], row => With(row, 7, null)),
        (ChangeKind.Missing, [""], _ => null),
    ];

    private StoreAddress Store(string engine, string name)
    {
        string shape = "name VARCHAR(60), town VARCHAR(40), born DATE, amount " + (engine == "sqlite" ? "TEXT" : "DECIMAL(12,3)")
            + ", quantity INTEGER, seen TIMESTAMP" + (engine == "mariadb" ? " NULL" : "") + ", note VARCHAR(200)";
        string[] tables = [$"CREATE TABLE keyed (id INTEGER NOT NULL PRIMARY KEY, {shape})",
            $"CREATE TABLE loose (id INTEGER NOT NULL, {shape})",
            "CREATE TABLE child (id INTEGER NOT NULL, line INTEGER NOT NULL, price INTEGER, PRIMARY KEY (id, line))",
            "CREATE TABLE head (id INTEGER NOT NULL PRIMARY KEY)",
            "CREATE TABLE entry (nr INTEGER NOT NULL PRIMARY KEY, head INTEGER, FOREIGN KEY (head) REFERENCES head (id))"];
        StoreAddress store = engine == "sqlite" ? new StoreAddress("sqlite", _folder[name + ".db"]) : _servers.Made(engine, name, tables);
        if (engine == "sqlite") foreach (string table in tables) Run(store, [table]);
        return store;
    }

    private static string Sql(object? value) => value switch
    {
        null => "NULL",
        string text => $"'{text}'",
        DateOnly day => $"'{day:yyyy-MM-dd}'",
        DateTime at => $"'{at:yyyy-MM-dd HH:mm:ss}'",
        decimal amount => amount.ToString("0.000", CultureInfo.InvariantCulture),
        _ => Convert.ToString(value, CultureInfo.InvariantCulture)!
    };

    private static string Insert(string engine, string table, object?[] row) =>
        $"INSERT INTO {table} VALUES ({string.Join(", ", row.Select(value => Literal(engine, value)))})";

    // SQLite keeps an amount as the text that it is; as a number it would be a floating-point one.
    private static string Literal(string engine, object? value) => engine == "sqlite" && value is decimal ? $"'{Sql(value)}'" : Sql(value);

    private static IEnumerable<string> Filled(string engine) =>
    [
        "DELETE FROM keyed", "DELETE FROM loose", "DELETE FROM child",
        .. Enumerable.Range(1, Records).SelectMany(no => (string[])[Insert(engine, "keyed", Record(no)), Insert(engine, "loose",
            Record(no)),
            $"INSERT INTO child VALUES ({no}, 1, {no * 7})", $"INSERT INTO child VALUES ({no}, 2, {no * 9})"]),
    ];

    private static (WayMatched Matched, List<Difference> All) Match(StoreAddress old, StoreAddress renewed)
    {
        var all = new List<Difference>();
        WayMatched matched = BareMatch.Run(new StoreOpener(), new BareSide(old, [], null, []), new BareSide(renewed, [], null, []),
            new ListObserver(), CancellationToken.None, (_, difference) => all.Add(difference));
        return (matched, all);
    }

    [Theory]
    [InlineData("sqlite")]
    [InlineData("postgresql")]
    [InlineData("mariadb")]
    [InlineData("firebird")]
    public void Every_single_change_is_found_where_it_is_and_as_what_it_is(string engine)
    {
        var random = new Random(Seeds.Given);
        output.WriteLine($"seed {Seeds.Given}");
        (StoreAddress old, StoreAddress renewed) = (Store(engine, "old"), Store(engine, "new"));
        Run(old, Filled(engine));
        (int planted, int right) = (0, 0);
        for (int round = 0; round < Rounds; round++)
        {
            var statements = new List<string>(Filled(engine));
            var expected = new List<(string Place, ChangeKind Kind)>();
            foreach (string table in (string[])["keyed", "loose"])
                foreach (int no in Enumerable.Range(1, Records).Where(_ => random.Next(6) == 0).ToArray())
                {
                    (ChangeKind kind, string[] columns, Func<object?[], object?[]?> change) = Plants[random.Next(Plants.Length)];
                    if (engine == "sqlite" && columns[0] == "amount") continue; // a text there, to which these kinds say nothing
                    statements.Add($"DELETE FROM {table} WHERE id = {no}");
                    if (change(Record(no)) is { } row) statements.Add(Insert(engine, table, row));
                    expected.AddRange(columns.Select(column => ($"{table} {(table == "keyed" ? $"{no} " : "")}{column}", kind)));
                }
            int lost = 1 + random.Next(Records), twice = 1 + random.Next(Records);
            statements.Add($"DELETE FROM child WHERE id = {lost} AND line = 2");
            expected.Add(($"child {lost} / 2 ", ChangeKind.Missing));
            if (!expected.Any(one => one.Place.StartsWith("loose", StringComparison.Ordinal) && one.Kind == ChangeKind.Doubled))
            {
                statements.Add(Insert(engine, "loose", Record(Records + twice)));
                statements.Add(Insert(engine, "loose", Record(Records + twice)));
                expected.Add(("loose ", ChangeKind.Extra));
                expected.Add(("loose ", ChangeKind.Doubled));
            }
            Run(renewed, statements);
            (WayMatched matched, List<Difference> all) = Match(old, renewed);
            Assert.Equal(Verdict.NotProved, matched.Verdict);
            (string Place, ChangeKind Kind)[] found = [.. all.Select(one => ($"{one.Table} {(one.Table is "loose" or "LOOSE" ? ""
                : one.Key + " ")}{one.Column}".ToLowerInvariant(), one.Change))];
            // All of them, where they are, and nothing else.
            Assert.Equal(expected.Select(one => one.Place).Order(StringComparer.Ordinal), found.Select(one => one.Place)
                .Order(StringComparer.Ordinal));
            planted += expected.Count;
            right += expected.GroupBy(one => one).Sum(same => Math.Min(same.Count(), found.Count(one => one == same.Key)));
        }
        output.WriteLine($"{right} of {planted} under their kind");
        Assert.True(planted > 500);
        Assert.True(right >= planted * 0.95, $"{right} of {planted}");
        // Without any there is none.
        Run(renewed, Filled(engine));
        (WayMatched same, List<Difference> none) = Match(old, renewed);
        Assert.Empty(none);
        Assert.True(BareMatch.IsSame(same));
    }

    private const int Heads = 40, Entries = 200;

    // No head for 0.
    private static string Entry(int no, int head) => $"INSERT INTO entry VALUES ({no}, {(head == 0 ? "NULL" : head)})";

    [Theory]
    [InlineData("sqlite")]
    [InlineData("postgresql")]
    [InlineData("mariadb")]
    [InlineData("firebird")]
    public void Every_parent_with_another_number_of_children_is_counted(string engine)
    {
        var random = new Random(Seeds.Given);
        output.WriteLine($"seed {Seeds.Given}");
        (StoreAddress old, StoreAddress renewed) = (Store(engine, "old"), Store(engine, "new"));
        var had = Enumerable.Range(1, Entries).ToDictionary(no => no, _ => random.Next(Heads + 1));
        string[] heads = [.. Enumerable.Range(1, Heads).Select(id => $"INSERT INTO head VALUES ({id})")];
        Run(old, [.. heads, .. had.Select(one => Entry(one.Key, one.Value))]);
        Run(renewed, heads);
        foreach (int changes in (int[])[0, 1, 5, 60])
        {
            var has = new Dictionary<int, int>(had);
            for (int i = 0; i < changes; i++)
            {
                int no = 1 + random.Next(Entries + 20);
                if (random.Next(3) == 0) has.Remove(no);
                else has[no] = random.Next(Heads + 1);
            }
            Run(renewed, ["DELETE FROM entry", .. has.Select(one => Entry(one.Key, one.Value))]);
            ChildrenMatched link = Assert.Single(Match(old, renewed).Matched.Hops[0].Children);
            Dictionary<int, int> change = Enumerable.Range(1, Heads).Select(head => (head, has.Values.Count(of => of == head)
                - had.Values.Count(of => of == head))).Where(one => one.Item2 != 0).ToDictionary();
            Assert.Equal((has.Count, Heads, change.Count, -change.Values.Where(by => by < 0).Sum(),
                change.Values.Where(by => by > 0).Sum()), ((int)link.Records, (int)link.Parents, (int)link.Differing, (int)link.Fewer,
                (int)link.More));
            Assert.Equal(change.Select(one => new ParentChange($"{one.Key}", one.Value)).ToHashSet(), [.. link.First]);
        }
    }

    [Theory]
    [InlineData("sqlite", "CREATE INDEX by_town ON keyed (town)", "CREATE VIEW brief AS SELECT id FROM keyed",
        "CREATE TRIGGER noted AFTER UPDATE ON keyed BEGIN UPDATE child SET price = 0; END",
            "ALTER TABLE child ADD COLUMN more TEXT DEFAULT 'x'")]
    [InlineData("postgresql", "CREATE INDEX by_town ON keyed (town)", "ALTER TABLE keyed ALTER COLUMN town SET DEFAULT 'x'",
        "ALTER SEQUENCE numbers RESTART WITH 700", "ALTER TABLE loose ALTER COLUMN quantity SET NOT NULL",
        "ALTER TABLE loose ADD CONSTRAINT above CHECK (quantity > 0)")]
    [InlineData("mariadb", "CREATE INDEX by_town ON keyed (town)", "ALTER TABLE keyed ALTER COLUMN town SET DEFAULT 'x'",
        "ALTER SEQUENCE numbers RESTART 700", "CREATE TRIGGER noted BEFORE UPDATE ON keyed FOR EACH ROW SET NEW.town = 'y'")]
    [InlineData("firebird", "CREATE INDEX by_town ON keyed (town)", "ALTER TABLE keyed ALTER COLUMN town SET DEFAULT 'x'",
        "ALTER SEQUENCE numbers RESTART WITH 700", "CREATE VIEW brief AS SELECT id FROM keyed")]
    public void Every_change_of_what_is_declared_is_found(string engine, params string[] changes)
    {
        (StoreAddress old, StoreAddress renewed) = (Store(engine, "old"), Store(engine, "new"));
        if (engine != "sqlite") foreach (StoreAddress store in (StoreAddress[])[old, renewed]) Run(store, ["CREATE SEQUENCE numbers"]);
        int Declared() => BareMatch.DeclaredOtherwise(Match(old, renewed).Matched.Hops[0]).Count();
        int before = Declared();
        Assert.Equal(0, before);
        foreach (string change in changes)
        {
            Run(renewed, [change]);
            int now = Declared();
            Assert.True(now > before, change);
            before = now;
        }
    }
}
