using Transferra.Core.Conversion;
using Transferra.Core.Expressions;
using Transferra.Core.Kits;
using Transferra.Core.Matching;
using Transferra.Core.Records;
using Transferra.Tests;

namespace Transferra.Core.Tests;

public sealed class MatchingTests : IDisposable
{
    private readonly Hop _hop = SampleKit.LoadHop();
    private readonly MemoryStore _old;
    private readonly MemoryStore _new = new();

    public MatchingTests()
    {
        _old = SampleKit.Store(_hop, [.. Enumerable.Range(1, 500).Select(i => SampleKit.Part(i, "part " + i, $"{i}.00", made: $"{1 + i % 28:00}/03/21"))]);
        StoreConverter.Run(_old, _new, _hop, SampleKit.Settings, _ => { }, new ListObserver(), CancellationToken.None);
        _old.Answers["old prices"] = new QueryAnswer(["a", "b"], [["S", "12525000"]]);
        _new.Answers["new prices"] = _old.Answers["old prices"];
    }

    public void Dispose()
    {
        _old.Dispose();
        _new.Dispose();
    }

    private MatchResult Match(int portion = 50_000) =>
        new CompanyMatch(_hop, SampleKit.Settings, new ListObserver(), CancellationToken.None) { PortionRows = portion }.Run(_old, _new);

    private List<object?[]> Parts => _new.Tables["part"].Rows;

    [Fact]
    public void A_faithful_conversion_is_proved()
    {
        MatchResult match = Match();
        Assert.True(match.IsProved);
        Assert.Equal(500, match.Tables.Single(table => table.Table == "part").Found);
        Assert.Equal("125250.00", match.Totals[0].Lines[0].Old);
    }

    [Theory]
    [InlineData(50_000)]
    [InlineData(1)] // one bucket at a time
    public void One_changed_amount_is_named(int portion)
    {
        Parts[41][2] = (Int128)4201;
        MatchResult match = Match(portion);
        Assert.False(match.IsProved);
        Assert.Equal(new Difference("part", "42", "price", DifferenceKind.Value, "42.00", "42.01"), Assert.Single(match.Differences));
    }

    [Fact]
    public void A_missing_and_an_added_record_are_named()
    {
        object?[] gone = Parts[6];
        Parts.RemoveAt(6);
        Parts.Add([9999L, "stranger", (Int128)1, "string", null, null]);
        MatchResult match = Match();
        Assert.Equal([(DifferenceKind.Missing, "7"), (DifferenceKind.Extra, "9999")], match.Differences.Select(difference => (difference.Kind, difference.Key))
            .OrderBy(pair => pair.Kind));
        Assert.NotNull(gone);
    }

    [Fact]
    public void Two_swapped_dates_are_two_differences_though_counts_and_sums_agree()
    {
        (Parts[9][4], Parts[10][4]) = (Parts[10][4], Parts[9][4]);
        MatchResult match = Match();
        Assert.All(match.Tables, table => Assert.Equal(table.Expected, table.Found));
        Assert.Equal([("10", "made_on"), ("11", "made_on")], match.Differences.Select(difference => (difference.Key, difference.Column)).Order());
    }

    [Fact]
    public void A_record_that_is_there_twice_is_noticed()
    {
        Parts.Add(Parts[0]);
        Assert.Equal(DifferenceKind.Extra, Assert.Single(Match().Differences).Kind);
    }

    [Fact]
    public void A_null_is_not_an_empty_text()
    {
        _new.Tables["grp"].Rows[0][1] = null;
        Assert.Equal(("Violins", "(no value)"), Match().Differences.Select(difference => (difference.Expected, difference.Found)).Single());
    }

    [Fact]
    public void A_control_total_that_disagrees_fails_the_proof_even_when_all_records_are_the_same()
    {
        _new.Answers["new prices"] = new QueryAnswer(["a", "b"], [["S", "12525001"], ["T", "1"]]);
        MatchResult match = Match();
        Assert.False(match.IsProved);
        Assert.Empty(match.Differences);
        Assert.Equal([new TotalLine("S", "125250.00", "125250.01"), new TotalLine("T", null, "0.01")], match.Totals[0].Lines);
    }

    [Fact]
    public void A_control_total_that_is_no_whole_number_agrees_with_nothing_not_even_with_itself()
    {
        foreach (MemoryStore store in (MemoryStore[])[_old, _new])
            foreach (string question in store.Answers.Keys.ToArray()) store.Answers[question] = new QueryAnswer(["a", "b"], [["S", "125250.5"]]);
        MatchResult match = Match();
        Assert.False(match.IsProved);
        TotalLine line = Assert.Single(match.Totals[0].Lines);
        Assert.Equal(("\"125250.5\" (no whole number of units)", false), (line.New, line.IsSame));
    }

    [Fact]
    public void Totals_of_stores_that_answer_no_sql_are_added_up_table_by_table()
    {
        TableShape table = _hop.From.Table("PART")!;
        Expression sum = ExpressionParser.Parse("CAST(PRICE AS DECIMAL(10,2))"), where = ExpressionParser.Parse("PNO > 490");
        MemoryStore store = SampleKit.Store(_hop, SampleKit.Part(1, "a", "1.50"), SampleKit.Part(2, "b", "2.25", group: 2), SampleKit.Part(3, "c", "0.05"),
            SampleKit.Part(4, "d", "no price"), SampleKit.Part(491, "e", "9.00", group: null));
        Assert.Equal(new Dictionary<string, Int128> { ["1"] = 155, ["2"] = 225, [TotalLine.NoLabel] = 900 },
            GroupSums.Of(store, new GroupSum(table, ["GROUPNO"], sum, null), CancellationToken.None));
        Assert.Equal(new Dictionary<string, Int128> { [""] = 900 }, GroupSums.Of(store, new GroupSum(table, [], sum, where), CancellationToken.None));
        Assert.Equal(new Dictionary<string, Int128> { ["1"] = 3, ["2"] = 1, [TotalLine.NoLabel] = 1 },
            GroupSums.Of(store, new GroupSum(table, ["GROUPNO"], null, null), CancellationToken.None));
    }

    [Fact]
    public void With_everything_different_the_list_ends_and_says_so()
    {
        foreach (object?[] row in Parts) row[2] = (Int128)0;
        foreach (object?[] row in Parts) row[3] = "wind";
        foreach (object?[] row in Parts) row[5] = "?";
        MatchResult match = Match(portion: 10);
        Assert.Equal(1000, match.Differences.Count);
        Assert.False(match.IsCountExact);
    }
}
