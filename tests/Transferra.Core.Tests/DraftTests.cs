using System.Globalization;
using Transferra.Core.Drafting;
using Transferra.Core.Machine;
using Transferra.Tests;

namespace Transferra.Core.Tests;

/// <summary>Drafts of stores that nobody described.</summary>
public sealed class DraftTests(ITestOutputHelper output)
{
    private sealed class NoProgress : IProgressObserver
    {
        public void Progress(string table, long rows, long ofRows) { }
    }

    private static StoreProfile Look(MemoryStore store) => StoreProfile.Of(store, "memory", [], new NoProgress(), CancellationToken.None);

    /// <summary>The figures stand in docs/kits.md: of what a draft says without a question mark at least 99 of 100 are right, and of what
    /// there is to say it says, or asks rightly, at least 90 of 100.</summary>
    [Fact]
    public void Of_random_pairs_what_is_said_is_right_and_most_is_said()
    {
        int pairs = int.TryParse(Environment.GetEnvironmentVariable("TRANSFERRA_PAIRS"), NumberStyles.None, CultureInfo.InvariantCulture,
            out int given) ? given : 1000, seed = Seeds.Given * 1_000_000;
        (int said, int right, int asked, int truths) = (0, 0, 0, 0);
        var wrong = new List<string>();
        var missed = new List<string>();
        for (int i = 0; i < pairs; i++)
        {
            var pair = new DraftPair(seed + i);
            DraftedHop hop = new HopDraft(Look(pair.Old), Look(pair.New), (_, _) => false).Of(CancellationToken.None);
            truths += pair.Truth.Count;
            var found = new HashSet<string>();
            foreach (DraftedPair tables in hop.Pairs)
                foreach (DraftedColumn column in tables.Columns)
                {
                    string at = $"{tables.New}.{column.Column}";
                    bool isRight = column.Of.Count == 1 && pair.Truth.GetValueOrDefault(at) == $"{tables.Old}.{column.Of[0]}";
                    if (isRight) found.Add(at);
                    if (!tables.IsSure || !column.IsSure)
                    {
                        asked += isRight ? 1 : 0;
                        continue;
                    }
                    said++;
                    right += isRight ? 1 : 0;
                    if (!isRight) wrong.Add($"pair {seed + i}: {at} = {tables.Old}.{column.Value}, {column.Because}");
                }
            missed.AddRange(pair.Truth.Where(truth => !found.Contains(truth.Key)).Select(truth => $"pair {seed + i}: {truth.Key} = "
                + truth.Value));
        }
        string told = FormattableString.Invariant($"{pairs} pairs from seed {seed}: {truths} columns with a past; ")
            + FormattableString.Invariant($"said {said}, right {right} ")
            + FormattableString.Invariant($"({100.0 * right / said:0.00} %); said or asked rightly {right + asked} ")
            + FormattableString.Invariant($"({100.0 * (right + asked) / truths:0.00} %), said {100.0 * right / truths:0.00} %");
        output.WriteLine(told);
        foreach (string line in wrong.Take(20).Concat(missed.Take(20))) output.WriteLine(line);
        if (Environment.GetEnvironmentVariable("TRANSFERRA_TEST_RESULTS") is { } results)
            File.WriteAllText(Path.Combine(results, "drafts.log"), told + "\n" + string.Join("\n", wrong.Concat(missed).Take(200)) + "\n");
        Assert.True(right >= said * 0.99, told + "\n" + string.Join("\n", wrong.Take(20)));
        Assert.True(right + asked >= truths * 0.9, told + "\n" + string.Join("\n", missed.Take(20)));
    }

    [Theory]
    [InlineData("ALTER TABLE emp ADD COLUMN rate DECIMAL(9,2), DROP COLUMN fax", "emp: rate added, fax removed")]
    [InlineData("ALTER TABLE \"emp\" RENAME COLUMN a TO b", "emp: a renamed to b")]
    [InlineData("update main.emp set rate = rate * 2, name = 'x, y = 3' where id = 1", "main.emp: values of rate, name, y changed")]
    [InlineData("INSERT OR REPLACE INTO `old log` VALUES (1)", "old log: records added")]
    [InlineData("DROP TABLE IF EXISTS tmp", "tmp: removed")]
    [InlineData("CREATE TABLE IF NOT EXISTS audit (id INTEGER)", "audit: made")]
    [InlineData("TRUNCATE TABLE log", "log: all records removed")]
    [InlineData("SELECT 1", "")]
    public void What_a_statement_touches_is_told(string statement, string told)
    {
        using var folder = new TempFolder();
        folder.Write("a.sql", statement + ";\n");
        Assert.Equal(told, string.Join(" | ", TouchedByScripts.Of([folder["a.sql"]], "postgresql")));
    }

    [Theory]
    [InlineData("CUSTOMER_NO", "customerNo", 1.0)]
    [InlineData("ACCTNO", "ACCTNO", 1.0)]
    [InlineData("QTY", "quantity", 0.7)]
    [InlineData("VATC", "tax_code", 0.0)]
    [InlineData("TOWN", "phone", 0.0)]
    public void Names_are_like_each_other_by_their_words_and_short_forms(string a, string b, double least)
    {
        double likeness = NameLikeness.Of(a, b);
        Assert.InRange(likeness, least, least == 0 ? 0.6 : 1);
        Assert.Equal(likeness, NameLikeness.Of(b, a), 6);
    }

    [Theory]
    [InlineData("sqlite", "SELECT \"BY\", SUM(CAST(ROUND(\"A\" * 100) AS INTEGER)) FROM \"T\" GROUP BY \"BY\"")]
    [InlineData("mariadb", "SELECT `BY`, SUM(CAST(ROUND(`A` * 100) AS SIGNED)) FROM `T` GROUP BY `BY`")]
    [InlineData("postgresql", "SELECT \"BY\", SUM(CAST(ROUND(\"A\" * 100) AS BIGINT)) FROM \"T\" GROUP BY \"BY\"")]
    [InlineData("dbf", null)]
    public void A_total_is_asked_of_the_engine_in_whole_units(string engine, string? sql) => Assert.Equal(sql, TotalSql.Of(engine,
        new DraftedTotal("t", "T", ["BY"], "A", 2, new Transferra.Core.Records.ColumnShape("A",
            Transferra.Core.Records.FieldType.Decimal(12, 2)))));
}
