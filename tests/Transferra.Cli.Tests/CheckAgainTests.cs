using System.Text.Json;

namespace Transferra.Cli.Tests;

/// <summary>Whether the engine looks through the new store once more when it is in its place.</summary>
public sealed class CheckAgainTests : IDisposable
{
    private readonly OddOffice _office = new();

    public void Dispose() => _office.Dispose();

    // A store whose digest takes long enough for the clock of any volume but the coarsest to go on.
    private void Ready()
    {
        _office.Add("A", "sqlite", "data/a.db", records: 40);
        DemoFolder.Execute(_office["data/a.db"], "CREATE TABLE pictures (id INTEGER PRIMARY KEY, picture BLOB); WITH RECURSIVE c(i) AS "
            + "(SELECT 1 UNION ALL SELECT i + 1 FROM c WHERE i < 80) INSERT INTO pictures SELECT i, randomblob(1000000) FROM c");
        _office.Ready();
    }

    private string Engine()
    {
        string journal = Path.Combine(Assert.Single(Directory.GetDirectories(_office["transferra/runs"])), "journal.jsonl");
        JsonElement done = File.ReadLines(journal).Select(line => JsonDocument.Parse(line).RootElement).Last(entry =>
            entry.GetProperty("stage").GetString() == "check-again" && entry.GetProperty("state").GetString() == "done");
        return done.GetProperty("facts").GetProperty("engine").GetString()!;
    }

    [Fact]
    public void Not_where_its_bytes_are_those_that_it_looked_through_when_the_store_was_made()
    {
        Ready();
        _office.Run("upgrade", "--yes", "A").Expect(0);
        Assert.Equal("found nothing when the store was made; these bytes are the same", Engine());
    }

    [Fact]
    public void Again_where_somebody_may_have_been_there_meanwhile()
    {
        Ready();
        BuiltProgram.RunUntilReplaced("check-again.json", 1, _office.Path, "upgrade", "--yes", "A");
        _office.Run("upgrade", "--resume", "--yes", "A").Expect(0);
        Assert.Equal("looked again", Engine());
    }

    private const string Odd = "CREATE TABLE odd (id INTEGER PRIMARY KEY, d DATE, t VARCHAR(5), q DECIMAL(12,3), n INTEGER); "
        + "INSERT INTO odd VALUES (1, '2026-01-02', 'short', 1.5, 1), (2, '2026-13-45', 'much too long', 0.1428571, 'x'), "
        + "(3, '', 'ok', 2, 3)";

    private static readonly string[] Kept = ["too-long odd q warning", "not-convertible odd n warning", "not-convertible odd d warning",
        "too-long odd t note"];

    // Kind, table, column and grade of what was found in that table.
    private static string[] Found(Called check)
    {
        static string Of(JsonElement finding, string what) => finding.GetProperty(what).GetString()!;
        return [.. check.Json.GetProperty("result")[0].GetProperty("check").GetProperty("findings").EnumerateArray()
            .Where(finding => Of(finding, "table") == "odd" && Of(finding, "subject").Length > 0)
            .Select(finding => $"{Of(finding, "kind")} odd {Of(finding, "subject")[0]} {Of(finding, "grade")}")
            .Order(StringComparer.Ordinal)];
    }

    public static TheoryData<string, bool> Kits => new()
    {
        { "nothing", true }, // tables as the store has them
        { "", true }, // a table that the kit does not know
        { "  odd: {columns: {id: INTEGER NOT NULL, d: DATE, t: VARCHAR(5), q: \"DECIMAL(12,3)\", n: INTEGER}, key: [id]}\n", true },
        { "  odd: {columns: {id: INTEGER NOT NULL, d: DATE, t: VARCHAR(5), q: \"DECIMAL(12,3)\", n: INTEGER}, key: [id]}\n", false },
    };

    [Theory]
    [MemberData(nameof(Kits))]
    public void What_was_odd_all_along_and_is_not_converted_is_told_before_and_after_and_stops_nothing(string described, bool isKept)
    {
        string old = described == "nothing" ? OddOffice.OfStore(OddOffice.OldVersion) : OddOffice.OldVersion.TrimEnd() + "\n" + described,
            renewed = described == "nothing" ? OddOffice.OfStore(OddOffice.NewVersion) : OddOffice.NewVersion.TrimEnd() + "\n"
                + (isKept ? described : described.Replace("n: INTEGER}", "n: INTEGER, more: TEXT}", StringComparison.Ordinal));
        _office.WriteKit(old, renewed, isKept ? null : OddOffice.Hop.TrimEnd() + "\n  - {from: odd, into: {odd: {more: \"NULL\"}}}\n");
        _office.Add("A", "sqlite", "data/a.db");
        DemoFolder.Execute(_office["data/a.db"], Odd);
        _office.Ready();
        Called check = _office.Run("check", "A", "--json"), upgrade = _office.Run("upgrade", "--yes", "A", "--json");
        if (!isKept)
        {
            // A map converts the table, and what it cannot convert is a fault before anything is done.
            Assert.Contains("too-long odd q fault", Found(check));
            upgrade.Expect(1);
            return;
        }
        Assert.Equal(Kept.Order(StringComparer.Ordinal), Found(check));
        upgrade.Expect(0);
        string report = File.ReadAllText(Path.Combine(Assert.Single(Directory.GetDirectories(_office["transferra/runs"])), "A",
            "check-again.json"));
        Assert.Contains("0.1428571", report, StringComparison.Ordinal);
        Assert.Equal("0.1428571", DemoFolder.Ask(_office["data/a.db"], "SELECT q FROM odd WHERE id = 2"));
    }
}
