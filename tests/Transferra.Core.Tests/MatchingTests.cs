using Transferra.Core.Conversion;
using Transferra.Core.Expressions;
using Transferra.Core.Kits;
using Transferra.Core.Matching;
using Transferra.Core.Records;
using Transferra.Tests;

namespace Transferra.Core.Tests;

public sealed class MatchingTests : IDisposable
{
    private readonly Correspondence _hop = SampleKit.LoadHop();
    private readonly MemoryStore _old;
    private readonly MemoryStore _new = new();

    public MatchingTests()
    {
        _old = SampleKit.Store(_hop, [.. Enumerable.Range(1, 500)
            .Select(i => SampleKit.Part(i, "part " + i, $"{i}.00", made: $"{1 + i % 28:00}/03/21"))]);
        ConversionPass.Run(_old, _new, _hop, SampleKit.Settings, _ => { }, new ListObserver(), CancellationToken.None);
        _old.Answers["old prices"] = new QueryAnswer(["a", "b"], [["S", "12525000"]]);
        _new.Answers["new prices"] = _old.Answers["old prices"];
    }

    public void Dispose()
    {
        _old.Dispose();
        _new.Dispose();
    }

    private MatchResult Match(RefusedRecords? refused = null) =>
        new CompanyMatch(_hop, SampleKit.Settings, new ListObserver(), CancellationToken.None)
        {
            Refused = refused
            ?? RefusedRecords.None
        }.Run(_old, _new);

    private List<object?[]> Parts => _new.Tables["part"].Rows;

    [Fact]
    public void A_faithful_conversion_is_proved()
    {
        MatchResult match = Match();
        Assert.True(match.IsSame);
        Assert.Equal(500, match.Tables.Single(table => table.Table == "part").Found);
        Assert.Equal("125250.00", match.Totals[0].Lines[0].Old);
    }

    [Fact]
    public void Of_thousands_of_clean_conversions_none_raises_an_alarm_and_of_as_many_with_one_change_each_does()
    {
        var random = new Random(Seeds.Given);
        string[] names = ["", " ", "Caf\u00E9", "e\u0301", "a\nb", "Total ", "0", "\u00DFharp", "x'y\"z"];
        for (int round = 0; round < 2000; round++)
        {
            using MemoryStore old = SampleKit.Store(_hop, [.. Enumerable.Range(1, random.Next(1, 12)).Select(i => SampleKit.Part(i,
                names[random.Next(names.Length)] + i,
                    FormattableString.Invariant($"{random.Next(-500, 500)}.{random.Next(100):00}"),
                made: FormattableString.Invariant($"{1 + random.Next(28):00}/{1 + random.Next(12):00}/{random.Next(100):00}")))]);
            using var renewed = new MemoryStore();
            ConversionPass.Run(old, renewed, _hop, SampleKit.Settings, _ => { }, new ListObserver(), CancellationToken.None);
            old.Answers["old prices"] = renewed.Answers["new prices"] = new QueryAnswer(["a", "b"], [["S", "1"]]);
            MatchResult Matched() => new CompanyMatch(_hop, SampleKit.Settings, new ListObserver(), CancellationToken.None)
                .Run(old, renewed);
            MatchResult clean = Matched();
            Assert.True(clean.IsSame, $"seed {Seeds.Given}, round {round}: {string.Join("; ", clean.Differences)}");
            List<object?[]> parts = renewed.Tables["part"].Rows;
            if (parts.Count == 0) continue;
            object?[] one = parts[random.Next(parts.Count)];
            one[2] = (Int128)one[2]! + 1;
            MatchResult changed = Matched();
            Assert.Equal(1, changed.DifferenceCount);
            Assert.Equal(("part", Convert.ToString(one[0], System.Globalization.CultureInfo.InvariantCulture), "price"),
                (changed.Differences[0].Table, changed.Differences[0].Key, changed.Differences[0].Column));
        }
    }

    [Fact]
    public void One_changed_amount_is_named()
    {
        Parts[41][2] = (Int128)4201;
        MatchResult match = Match();
        Assert.False(match.IsSame);
        Assert.Equal(new Difference("part", "42", "price", DifferenceKind.Value, "42.00", "42.01"), Assert.Single(match.Differences));
    }

    [Fact]
    public void A_missing_and_an_added_record_are_named()
    {
        object?[] gone = Parts[6];
        Parts.RemoveAt(6);
        Parts.Add([9999L, "stranger", (Int128)1, "string", null, null]);
        MatchResult match = Match();
        Assert.Equal([(DifferenceKind.Missing, "7"), (DifferenceKind.Extra, "9999")],
            match.Differences.Select(difference => (difference.Kind, difference.Key))
            .OrderBy(pair => pair.Kind));
        Assert.NotNull(gone);
    }

    [Fact]
    public void Two_swapped_dates_are_two_differences_though_counts_and_sums_agree()
    {
        (Parts[9][4], Parts[10][4]) = (Parts[10][4], Parts[9][4]);
        MatchResult match = Match();
        Assert.All(match.Tables, table => Assert.Equal(table.Expected, table.Found));
        Assert.Equal([("10", "made_on"), ("11", "made_on")], match.Differences.Select(difference => (difference.Key, difference.Column))
            .Order());
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
        Assert.False(match.IsSame);
        Assert.Empty(match.Differences);
        Assert.Equal([new TotalLine("S", "125250.00", "125250.01"), new TotalLine("T", null, "0.01")], match.Totals[0].Lines);
    }

    [Fact]
    public void A_control_total_that_is_no_whole_number_agrees_with_nothing_not_even_with_itself()
    {
        foreach (MemoryStore store in (MemoryStore[])[_old, _new])
            foreach (string question in store.Answers.Keys.ToArray()) store.Answers[question] = new QueryAnswer(["a", "b"],
                [["S", "125250.5"]]);
        MatchResult match = Match();
        Assert.False(match.IsSame);
        TotalLine line = Assert.Single(match.Totals[0].Lines);
        Assert.Equal(("\"125250.5\" (no whole number of units)", false), (line.New, line.IsSame));
    }

    [Fact]
    public void Lines_of_a_total_stand_in_the_order_in_which_people_count()
    {
        string[] labels = ["1 / 9", "1 / 10", "2", "12", "2024-3 b", "2024-12 a", "Möller", ""];
        _old.Answers["old prices"] = _new.Answers["new prices"] = new QueryAnswer(["a", "b"],
            [.. labels.Reverse().Select(label => (IReadOnlyList<string?>)[label, "1"])]);
        Assert.Equal(["", "1 / 9", "1 / 10", "2", "12", "2024-3 b", "2024-12 a", "Möller"],
            Match().Totals[0].Lines.Select(line => line.Label));
    }

    [Fact]
    public void Totals_of_stores_that_answer_no_sql_are_added_up_table_by_table()
    {
        TableShape table = _hop.From.Table("PART")!;
        Expression sum = ExpressionParser.Parse("CAST(PRICE AS DECIMAL(10,2))"), where = ExpressionParser.Parse("PNO > 490"),
            by = ExpressionParser.Parse("GROUPNO");
        Dictionary<string, string> none = [];
        MemoryStore store = SampleKit.Store(_hop, SampleKit.Part(1, "a", "1.50"), SampleKit.Part(2, "b", "2.25", group: 2),
            SampleKit.Part(3, "c", "0.05"),
            SampleKit.Part(4, "d", "no price"), SampleKit.Part(491, "e", "9.00", group: null));
        Assert.Equal(new Dictionary<string, Int128> { ["1"] = 155, ["2"] = 225, [TotalLine.NoLabel] = 900 },
            GroupSums.Of(store, new GroupSum(table, [by], sum, null), none, CancellationToken.None));
        Assert.Equal(new Dictionary<string, Int128> { [""] = 900 }, GroupSums.Of(store, new GroupSum(table, [], sum, where), none,
            CancellationToken.None));
        Assert.Equal(new Dictionary<string, Int128> { ["1"] = 3, ["2"] = 1, [TotalLine.NoLabel] = 1 },
            GroupSums.Of(store, new GroupSum(table, [by], null, null), none, CancellationToken.None));
    }

    [Fact]
    public void With_everything_different_all_is_counted_and_the_list_is_shared_fairly()
    {
        foreach (object?[] row in Parts) (row[2], row[3], row[5]) = ((Int128)0, "wind", "?");
        _new.Tables["memo"].Rows.RemoveAt(0);
        foreach (object?[] row in _new.Tables["part_name"].Rows) row[1] = 0L;
        MatchResult match = Match();
        Assert.Equal([("memo", 1L, 0L, 0L), ("part", 0L, 0L, 500L), ("part_name", 0L, 0L, 500L)], match.Tables.Where(table => !table.IsSame)
            .Select(table => (table.Table, table.Missing, table.Extra, table.Changed)).Order());
        Assert.Equal(1 + 3 * 500 + 500, match.DifferenceCount);
        Assert.Equal(CompanyMatch.MostListed, match.Differences.Count);
        Assert.Equal([("memo", 1), ("part", 500), ("part_name", 499)], match.Differences.GroupBy(difference => difference.Table)
            .Select(table => (table.Key, table.Count())).Order());
    }

    [Fact]
    public void A_cell_that_cannot_be_read_is_a_difference_even_where_nothing_was_expected()
    {
        (_old.Tables["PART"].Rows[4][4], Parts[4][4]) = (null, null);
        Assert.True(Match().IsSame);
        _new.Faults["part"] = new RowFault(4, FaultCode.NotText, "made_on", "0xFF", "the bytes are no text");
        Assert.Equal(("made_on", "0xFF: the bytes are no text"),
            Match().Differences.Select(difference => (difference.Column, difference.Found)).Single());
    }

    [Fact] // the map gives a sound record, and the engine did not take it: an exception, not a difference, and never proved
    public void A_record_that_the_new_store_refused_is_not_expected_in_it()
    {
        _new.Tables.Clear();
        _new.Refuses = row => row[0] is 7L or 8L;
        var refused = new List<ExceptionRow>();
        ConversionPass.Run(_old, _new, _hop, SampleKit.Settings, refused.Add,
            new ListObserver(), CancellationToken.None);
        Assert.Equal(2, refused.Count);
        MatchResult told = Match(RefusedRecords.Of(refused)), untold = Match();
        Assert.Equal((true, 2L, 498L), (told.IsSame, told.Exceptions, told.Tables.Single(table => table.Table == "part").Expected));
        Assert.Equal(Verdict.ProvedInPart, new WayMatched([told], [], []).Verdict);
        Assert.Equal((false, 0L, 2L), (untold.IsSame, untold.Exceptions, untold.Tables.Single(table => table.Table == "part").Missing));
        Assert.Equal(Verdict.NotProved, new WayMatched([untold], [], []).Verdict);
    }

    [Fact]
    public void The_verdict_is_about_the_whole_way()
    {
        MatchResult same = Match();
        Parts[0][2] = (Int128)0;
        MatchResult other = Match();
        var agree = new TotalMatch("t", true, [new TotalLine("", "1", "1")]);
        TotalMatch disagree = agree with { Lines = [new TotalLine("", "1", "2")] };
        NotLookedAt of(Verdict allows) => new("old", "1", "the table X", 3, allows);
        Assert.Equal(Verdict.Proved, new WayMatched([same, same], [agree], [of(Verdict.Proved)]).Verdict);
        Assert.Equal(Verdict.ProvedInPart, new WayMatched([same, same], [agree], [of(Verdict.Proved), of(Verdict.ProvedInPart)]).Verdict);
        Assert.Equal(Verdict.NotProved, new WayMatched([same, same], [agree], [of(Verdict.NotProved)]).Verdict);
        Assert.Equal(Verdict.NotProved, new WayMatched([other, same], [agree], []).Verdict);
        Assert.Equal(Verdict.NotProved, new WayMatched([same, same], [disagree], []).Verdict);
    }

    [Theory] // which versions have the total, and which pairs are to be compared beyond those of neighbours
    [InlineData("1111", "0-3")]
    [InlineData("1001", "0-3")]
    [InlineData("1101", "1-3 0-3")]
    [InlineData("1010", "0-2")]
    [InlineData("1100", "")]
    public void Totals_are_compared_over_versions_that_do_not_have_them(string having, string pairs)
    {
        KitVersion[] versions = [.. having.Select((has, i) => _hop.To with { Name = $"{i}", ControlTotals = has == '1'
            ? _hop.To.ControlTotals : [] })];
        IReadOnlyList<TotalMatch> totals = WayMatch.Totals(versions, _ => _new, new Dictionary<string, string>(), CancellationToken.None);
        Assert.Equal(pairs.Split(' ', StringSplitOptions.RemoveEmptyEntries),
            totals.Select(total => $"{total.FromVersion}-{total.ToVersion}"));
    }

    [Fact]
    public void What_nothing_looks_at_is_named_with_its_records()
    {
        _old.With(new TableShape("DIARY", [new("A", FieldType.Integer)], [], []), [1L], [2L]);
        _new.With(new TableShape("audit", [new("a", FieldType.Integer)], [], []), [1L]);
        IReadOnlyList<NotLookedAt> left = [.. WayMatch.LeftOfOld(_old, _hop)
            .Concat(WayMatch.LeftOfNew(_new, [_hop.From, _hop.To])).OrderByDescending(left => left.Allows)];
        Assert.Equal([
            new("old", "1", "the table DIARY, which the kit does not know", 2, Verdict.NotProved),
            new("new", "2", "the table audit, which the kit does not know", 1, Verdict.ProvedInPart),
            new("old", "1", "the table OLDLOG, left out by the kit: only of use to the program", 1, Verdict.Proved),
        ], left);
    }
}
