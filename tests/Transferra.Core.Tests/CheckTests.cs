using Transferra.Core.Checks;
using Transferra.Core.Conversion;
using Transferra.Core.Kits;
using Transferra.Core.Matching;
using Transferra.Core.Records;
using Transferra.Tests;

namespace Transferra.Core.Tests;

public class CheckTests
{
    private readonly Correspondence _hop = SampleKit.LoadHop();

    private CheckResult Check(MemoryStore store) => new CompanyCheck(_hop.From, _hop, SampleKit.Settings, new ListObserver(),
        CancellationToken.None).Run(store);

    // Prices of the group add up to 10.00, so that the rule of the books holds.
    private MemoryStore Sound(params object?[][] more) =>
        SampleKit.Store(_hop, [SampleKit.Part(1, "a", "4.00"), SampleKit.Part(2, "b", "6.00"), .. more]);

    [Fact]
    public void A_sound_store_gives_no_finding()
    {
        CheckResult check = Check(Sound());
        Assert.Empty(check.Findings);
        Assert.Equal(2, check.Tables["PART"]);
    }

    [Fact]
    public void An_exact_copy_is_a_warning_and_does_not_unbalance_its_group()
    {
        Finding finding = Assert.Single(Check(Sound(SampleKit.Part(2, "b", "6.00"))).Findings);
        Assert.Equal((FindingKinds.ExactCopies, Grade.Warning, 1L, true), (finding.Kind, finding.Grade, finding.Count, finding.IsMendable));
        Assert.Equal(["2"], finding.Examples);
    }

    [Fact]
    public void Records_that_share_a_key_are_a_fault()
    {
        Finding finding = Check(Sound(SampleKit.Part(2, "other", "0.00"))).Findings.Single(finding =>
            finding.Kind == FindingKinds.ConflictingKey);
        Assert.Equal((Grade.Fault, 2L), (finding.Grade, finding.Count));
    }

    [Fact]
    public void An_orphan_is_found_once_with_record_and_value()
    {
        Finding[] findings = [.. Check(Sound(SampleKit.Part(3, "c", "10.00", group: 77))).Findings];
        Finding finding = Assert.Single(findings);
        Assert.Equal((FindingKinds.Orphan, "PART", 1L), (finding.Kind, finding.Table, finding.Count));
        Assert.Equal(["3: \"77\""], finding.Examples);
    }

    [Fact]
    public void Values_that_cannot_be_converted_are_grouped_by_column_and_reason()
    {
        CheckResult check = Check(Sound(SampleKit.Part(3, "c", "x", group: 2), SampleKit.Part(4, "d", "y", group: 2),
            SampleKit.Part(5, "e", "10.00", kind: "?", group: 2)));
        Assert.Equal((2L, Grade.Fault), (check.Findings.Single(finding => finding.Kind == FindingKinds.NotANumber).Count, Grade.Fault));
        Finding notInList = check.Findings.Single(finding => finding.Kind == FindingKinds.NotInList);
        Assert.Equal((1L, "KIND"), (notInList.Count, notInList.Subject));
        Assert.Equal(["5: \"?\""], notInList.Examples);
        // The group with unreadable amounts cannot be judged, so it is not reported as unbalanced as well.
        Assert.DoesNotContain(check.Findings, finding => finding.Kind == FindingKinds.RuleBroken);
    }

    [Fact]
    public void A_rule_of_the_books_is_judged_group_by_group()
    {
        Finding finding = Assert.Single(Check(Sound(SampleKit.Part(3, "c", "9.99", group: 2))).Findings);
        Assert.Equal((FindingKinds.RuleBroken, 1L), (finding.Kind, finding.Count));
        Assert.Equal(["2: 9.99"], finding.Examples);
    }

    [Fact]
    public void Groups_may_span_batches()
    {
        // 10,000 records of a tenth of a penny would not fit a batch; the group's sum is right all the same.
        using MemoryStore store = SampleKit.Store(_hop,
            [.. Enumerable.Range(1, 10_000).Select(i => SampleKit.Part(i, "p" + i, i == 1 ? "0.01" : i <= 1000 ? "0.01" : "0.00"))]);
        Assert.Empty(Check(store).Findings);
    }

    [Fact]
    public void The_baseline_taken_meanwhile_is_what_a_reading_of_its_own_comes_to()
    {
        // Copies, cells that cannot be read, an orphan that is named by a second reading, and a table that the kit does not know.
        using MemoryStore store = Sound(SampleKit.Part(2, "b", "6.00"), SampleKit.Part(3, "c", "x", group: 77),
            SampleKit.Part(4, "d", "y"));
        store.With(new TableShape("CUSTOM", [new("A", FieldType.Integer), new("B", FieldType.Text)], ["A"], []),
            [.. Enumerable.Range(0, 10_000).Select(i => (object?[])[(long)i, "x" + i])]);
        var check = new CompanyCheck(_hop.From, _hop, SampleKit.Settings, new ListObserver(), CancellationToken.None)
        {
            TakesBaseline = true
        };
        Assert.NotEmpty(check.Run(store).Findings);
        KitVersion version = CustomFields.Of(store, _hop.From).In(_hop.From);
        // Memos are combined, for which they are read in an order of their own.
        Assert.Equal([.. version.Tables.Select(table => table.Name).Where(name => name != "MEMO").Order(StringComparer.Ordinal)],
            check.Baselines.Select(taken => taken.Table.Name).Order(StringComparer.Ordinal));
        Assert.Contains(check.Baselines, taken => taken.Baseline is { Records: 10_000, Last: 9_999 });
        Assert.Contains(check.Baselines, taken => taken.Baseline is { Table: "PART", Records: 5 });
        IReadOnlyList<TableBaseline> wanted = Baseline.Of(store, version.Tables, new ListObserver(), CancellationToken.None,
            byGroups: true);
        Assert.All(check.Baselines, taken => Assert.Equal(wanted.Single(table => table.Table == taken.Table.Name), taken.Baseline));
        Assert.All(check.Baselines, taken => Assert.True(taken.IsOf(version.Table(taken.Table.Name)!)));
    }

    [Theory]
    [InlineData("gone", FindingKinds.TableMissing)]
    [InlineData("combined", FindingKinds.ColumnUnknown)]
    [InlineData("damage", FindingKinds.Damaged)]
    public void Shape_and_damage_stop_the_check(string what, string kind)
    {
        using MemoryStore store = Sound();
        if (what == "gone") store.Tables.Remove("MEMO");
        if (what == "combined") store.With(store.Tables["MEMO"].Shape with
        {
            Columns = [.. store.Tables["MEMO"].Shape.Columns,
            new("MINE", FieldType.Text)]
        });
        if (what == "damage") store.Complaints.Add("page 7 is torn");
        CheckResult check = Check(store);
        Finding finding = Assert.Single(check.Findings);
        Assert.Equal((kind, Grade.Fault), (finding.Kind, finding.Grade));
        Assert.False(check.IsReadable);
    }

    [Fact]
    public void Custom_fields_and_tables_are_warnings_and_are_looked_at_as_well()
    {
        using MemoryStore store = Sound();
        store.With(new TableShape("CUSTOM", [new("A", FieldType.Integer), new("B", FieldType.Text)], ["A"], []), [1L, "x"], [1L, "x"]);
        store.With(store.Tables["GRP"].Shape with { Columns = [.. store.Tables["GRP"].Shape.Columns, new("MINE", FieldType.Text)] },
            [1L, "Violins", "a\u0001"], [2L, "Horns", null]);
        CheckResult check = Check(store);
        Assert.True(check.IsReadable);
        Assert.Equal(["column-unknown GRP", "control-characters GRP", "exact-copies CUSTOM", "table-unknown CUSTOM"],
            check.Findings.Select(finding => $"{finding.Kind} {finding.Table}").Order());
        Assert.Equal(2, check.Tables["CUSTOM"]);
    }

    [Fact]
    public void Custom_fields_go_through_every_hop_under_their_name_or_a_free_one()
    {
        using MemoryStore store = Sound();
        TableShape groups = store.Tables["GRP"].Shape, parts = store.Tables["PART"].Shape;
        store.With(groups with { Columns = [.. groups.Columns, new("MINE", FieldType.Decimal(8, 2)), new("group_no", FieldType.Text)] },
            [1L, "Violins", (Int128)250, "one"], [2L, "Horns", null, null]);
        store.With(new TableShape("memo_of_mine", [new("A", FieldType.Integer)], ["A"], []), [7L]);
        CustomFields custom = CustomFields.Of(store, _hop.From);
        CustomFields read = CustomFields.Read(custom.Written());
        Assert.Equal(custom.Columns, read.Columns);
        Correspondence hop = read.In([_hop])[0];
        Assert.Same(_hop.From.Table("PART"), hop.From.Table("PART"));
        using var made = new MemoryStore();
        ConversionPass.Run(store, made, hop, SampleKit.Settings, exception => Assert.Fail(exception.Causes[0].Reason), new ListObserver(),
            CancellationToken.None);
        Assert.Equal(["group_no", "title", "MINE", "group_no_2"], made.Tables["grp"].Shape.Columns.Select(column => column.Name));
        Assert.Equal([1L, "Violins", (Int128)250, "one"], made.Tables["grp"].Rows[0]);
        Assert.Equal([7L], Assert.Single(made.Tables["memo_of_mine"].Rows));
        Assert.Equal(parts.Columns.Count, hop.From.Table("PART")!.Columns.Count);
    }
}
