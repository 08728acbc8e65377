// ConformanceTests.Marks.cs: a store that is being built is left behind a mark, as by a stop, and continued.
using System.Text.Json;
using Transferra.Core.Records;

namespace Transferra.Stores.Tests;

public sealed partial class ConformanceTests
{
    private static readonly TableShape[] MarkedTables = [Values, Empty, Keyless, Composite];

    public static TheoryData<string, bool> EachEngineBothWays
    {
        get
        {
            var ways = new TheoryData<string, bool>();
            foreach (string engine in Engines)
                foreach (bool keysFirst in (bool[])[false, true]) ways.Add(engine, keysFirst);
            return ways;
        }
    }

    private static void Put(IStoreBuilder builder, TableShape table, RecordBatch batch, Range rows)
    {
        (int start, int length) = rows.GetOffsetAndLength(batch.RowCount);
        var rejects = new List<RowReject>();
        builder.Write([new TableOutput(table, batch.Vectors)], [.. Enumerable.Range(start, length)], rejects);
        Assert.Empty(rejects);
    }

    // What a run keeps of a mark, it keeps as text.
    private static BuildMark Kept(BuildMark mark) => JsonSerializer.Deserialize<BuildMark>(
        JsonSerializer.Serialize(mark, JsonSerializerOptions.Web), JsonSerializerOptions.Web)!;

    [Theory]
    [MemberData(nameof(EachEngineBothWays))]
    public void A_begun_store_goes_on_from_its_mark_and_what_came_behind_it_is_gone(string engine, bool keysFirst)
    {
        RecordBatch values = Rows(), composite = Few(Composite), keyless = Few(Keyless);
        StoreAddress at = At(engine, "s");
        BuildMark mark;
        using (IStoreBuilder builder = _stores.Create(at, keysFirst: keysFirst)) mark = builder.Mark();
        Assert.Empty(mark.Tables);
        using (IStoreBuilder builder = _stores.Continue(at, MarkedTables, Kept(mark), keysFirst: keysFirst))
        {
            builder.CreateTable(Values);
            Put(builder, Values, values, ..200);
            builder.CreateTable(Keyless);
            Put(builder, Keyless, keyless, ..);
            mark = builder.Mark();
            // Left: a table that is new, and rows of one that is not.
            builder.CreateTable(Composite);
            if (!keysFirst) Put(builder, Composite, composite, ..30);
            Put(builder, Values, values, 200..300);
        }
        Assert.Equal((200, 50), (mark.Tables["VALS"].Rows, mark.Tables["KEYLESS"].Rows));
        using (IStoreBuilder builder = _stores.Continue(at, MarkedTables, Kept(mark), keysFirst: keysFirst))
        {
            Put(builder, Values, values, 200..);
            builder.CreateTable(Empty);
            mark = builder.Mark();
        }
        using (IStoreBuilder builder = _stores.Continue(at, MarkedTables, Kept(mark), keysFirst: keysFirst))
        {
            builder.CreateTable(Composite with { Key = [] });
            Put(builder, Composite with { Key = [] }, composite, ..);
            builder.Complete(new Dictionary<string, string>());
        }
        Assert.Equal([FingerprintOf(Values, values), FingerprintOf(Empty, Few(Empty)), FingerprintOf(Keyless, keyless),
            FingerprintOf(Composite, composite)], FingerprintsOf(at, MarkedTables));
    }

    [Theory]
    [MemberData(nameof(EachEngine))]
    public void A_store_that_is_not_what_its_mark_says_is_not_gone_on_with(string engine)
    {
        StoreAddress at = At(engine, "s");
        BuildMark mark;
        Assert.Throws<CannotContinueException>(() => _stores.Continue(at, MarkedTables, BuildMark.Start));
        using (IStoreBuilder builder = _stores.Create(at))
        {
            builder.CreateTable(Composite);
            Put(builder, Composite, Few(Composite), ..1);
            mark = builder.Mark();
        }
        BuildMark more = new(mark.Tables.ToDictionary(table => table.Key, table => new BuiltTable(table.Value.Rows + 1,
            [.. table.Value.Ends.Select(end => end + 100)])));
        Assert.Throws<CannotContinueException>(() => _stores.Continue(at, MarkedTables, more));
        Assert.Throws<CannotContinueException>(() => _stores.Continue(at, [Values], mark));
    }

    // As a power cut leaves it: rows of an unfinished transaction in the file, and the journal beside it.
    [Fact]
    public void Rows_that_a_killed_program_left_in_a_SQLite_file_are_taken_back()
    {
        RecordBatch rows = Rows();
        StoreAddress at = new("sqlite", _folder["live.db"]), left = new("sqlite", _folder["left.db"]);
        BuildMark mark;
        TableShape table = Values with { Key = [] };
        using (IStoreBuilder builder = _stores.Create(at))
        {
            builder.CreateTable(table);
            Put(builder, table, rows, 100..200);
            mark = builder.Mark();
            long before = new FileInfo(at.Path).Length;
            // A row of a megabyte each time, more than the engine keeps in memory.
            for (int i = 0; i < 30; i++) Put(builder, table, rows, ..200);
            Assert.InRange(new FileInfo(at.Path).Length, before + (4 << 20), long.MaxValue);
            File.Copy(at.Path, left.Path);
            File.Copy(at.Path + "-journal", left.Path + "-journal");
        }
        using (IStoreBuilder builder = _stores.Continue(left, MarkedTables, mark)) builder.Complete(new Dictionary<string, string>());
        Assert.Equal([FingerprintOf(Values, rows, Enumerable.Range(100, 100))], FingerprintsOf(left, table));
    }
}
