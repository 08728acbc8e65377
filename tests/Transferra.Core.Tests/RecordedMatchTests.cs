using Transferra.Core.Machine;
using Transferra.Core.Matching;
using Transferra.Core.Records;
using Transferra.Tests;

namespace Transferra.Core.Tests;

/// <summary>A store against what was recorded of it.</summary>
public sealed class RecordedMatchTests
{
    private static readonly string[][] Keys = [["NO"], ["NAME"], ["NO", "NAME"], []];

    private static TableShape Shape(string name, IReadOnlyList<string> key) => new(name, [new ColumnShape("NO", FieldType.Integer),
        new ColumnShape("NAME", FieldType.Text), new ColumnShape("PRICE", FieldType.Decimal(12, 2)),
        new ColumnShape("MADE", FieldType.Date)],
        key, []);

    private static object?[] Row(Random random, long number) => [number, $"name {number}", random.Next(5) == 0 ? null
        : (Int128)random.Next(-500, 500), new DateOnly(2020, 1, 1).AddDays(random.Next(1000))];

    private static RecordedTable Record(MemoryStore store, TableShape shape, bool isKept)
    {
        var found = new BucketedFingerprint();
        var scan = new TableReading(shape, isKept);
        scan.Into(found, store, border: null, observer: null, CancellationToken.None);
        RecordedTable recorded = RecordedTable.Of(shape, isKept, found, scan.Last);
        // As it comes back from the file it is written to.
        return System.Text.Json.JsonSerializer.Deserialize<RecordedTable>(System.Text.Json.JsonSerializer.Serialize(recorded))!;
    }

    private static SinceRecorded Since(MemoryStore store, params RecordedTable[] tables) => RecordedMatch.Run(store,
        new RecordedStore("2", DateTimeOffset.UtcNow, Verdict.Proved, tables), new ListObserver(), CancellationToken.None);

    [Fact]
    public void Any_single_change_of_a_table_is_told_and_nothing_else_is()
    {
        var random = new Random(Seeds.Given);
        for (int round = 0; round < 1000; round++)
        {
            TableShape shape = Shape("T", Keys[round % Keys.Length]);
            int count = random.Next(1, round % 10 == 0 ? 3000 : 90);
            object?[][] rows = [.. Enumerable.Range(1, count).Select(i => Row(random, i * 3))];
            var store = new MemoryStore().With(shape, rows);
            RecordedTable then = Record(store, shape, isKept: random.Next(2) == 0);
            List<object?[]> now = store.Tables["T"].Rows;
            random.Shuffle(System.Runtime.InteropServices.CollectionsMarshal.AsSpan(now));
            string told = $"seed {Seeds.Given}, round {round}";
            Assert.True(Since(store, then) is { IsSame: true, Later: 0 }, told);
            // Added at the end; known as that where the key begins with the number.
            int added = random.Next(0, 4);
            for (int i = 1; i <= added; i++) now.Add(Row(random, (count + i) * 3));
            SinceTable after = Since(store, then).Tables[0];
            bool isNumbered = shape.Key.Count > 0 && shape.Key[0] == "NO";
            Assert.Equal((count, count + added, isNumbered ? added : 0, isNumbered || added == 0),
                (after.Then, after.Now, after.Later, after.IsSame));
            int at = random.Next(count);
            switch (random.Next(4))
            {
                case 0: now[at] = [now[at][0], now[at][1], ((Int128?)now[at][2] ?? 0) + 1, now[at][3]]; break;
                case 1: now.Add(now[at]); break;
                case 2: now.RemoveAt(at); break;
                default: now.Insert(at, Row(random, random.Next(count) * 3 - 1)); break;
            }
            Assert.False(Since(store, then).IsSame, told);
        }
    }

    [Fact]
    public void What_was_not_recorded_is_named_and_what_is_gone_is_not_the_same()
    {
        var random = new Random(1);
        TableShape one = Shape("ONE", ["NO"]), empty = Shape("EMPTY", ["NO"]), keyless = Shape("KEYLESS", []);
        var store = new MemoryStore().With(one, Row(random, 1), Row(random, 2)).With(empty).With(keyless, Row(random, 1));
        RecordedTable[] then = [Record(store, one, false), Record(store, empty, false), Record(store, keyless, false)];
        store.With(Shape("ADDED", []));
        store.Tables["EMPTY"].Rows.Add(Row(random, 1));
        SinceRecorded since = Since(store, then);
        Assert.Equal((true, 1L), (since.IsSame, since.Later));
        Assert.Equal(["ADDED"], since.NotRecorded);
        store.With(one with { Columns = [.. one.Columns.Where(column => column.Name != "PRICE")] }, [1L, "a", null], [2L, "b", null]);
        Assert.Equal("it has no column PRICE any more", Since(store, then).Tables[0].NotCompared);
        store.Tables.Remove("ONE");
        Assert.Equal(("it is gone", false), (Since(store, then).Tables[0].NotCompared, Since(store, then).IsSame));
    }

    [Theory]
    [InlineData(true)]
    [InlineData(false)]
    public void A_value_that_cannot_be_read_any_more_is_not_taken_for_one_that_was_missing(bool isKept)
    {
        TableShape shape = Shape("T", ["NO"]);
        var store = new MemoryStore().With(shape, [1L, "a", null, null], [2L, "b", null, null]);
        RecordedTable then = Record(store, shape, isKept);
        store.Faults["T"] = new RowFault(1, FaultCode.WrongKind, "PRICE", "1,50", "not a number");
        Assert.Equal(1, Since(store, then).Tables[0].Differing);
        // As it was when it was recorded it is the same; a table of which nothing converted has its faults.
        if (isKept) Assert.True(Since(store, Record(store, shape, isKept)).IsSame);
    }

    [Fact]
    public void Of_a_private_key_no_number_is_kept_and_what_is_written_otherwise_is_refused()
    {
        TableShape shape = Shape("T", ["NO"]);
        shape = shape with { Columns = [shape.Columns[0] with { IsPrivate = true }, .. shape.Columns.Skip(1)] };
        RecordedTable then = Record(new MemoryStore().With(shape, [4711L, "a", null, null]), shape, false);
        Assert.Null(then.Last);
        foreach (string groups in (string[])["", "AAAA", "?", Convert.ToBase64String(new byte[24 * 3]),
            Convert.ToBase64String(new byte[24 * 512])])
            Assert.Throws<TransferraException>(() => (then with { Groups = groups }).ReadGroups());
    }
}
