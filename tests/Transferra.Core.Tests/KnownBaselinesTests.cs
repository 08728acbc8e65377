using Transferra.Core.Matching;
using Transferra.Core.Office;
using Transferra.Core.Records;
using Transferra.Tests;

namespace Transferra.Core.Tests;

public sealed class KnownBaselinesTests : IDisposable
{
    private static readonly TableShape Parts = new("PARTS", [new("NO", FieldType.Integer), new("NAME", FieldType.Text)], ["NO"], []);

    private readonly TempFolder _folder = new();
    private readonly KnownBaselines _known = new(null!); // files need nobody who knows the engines

    public void Dispose() => _folder.Dispose();

    private StoreAddress Store => new("sqlite", _folder["books.db"]);

    // Before it is read and meanwhile, the volume's clock goes on, as it does in an office that was closed and while much is read.
    private static void Wait() => Thread.Sleep(TimeSpan.FromMilliseconds(60));

    private TableBaseline Read(Action? meanwhile = null, bool isSettled = true)
    {
        File.WriteAllText(Store.Path, "records");
        if (isSettled) Wait();
        KnownBaselines.Taking taking = _known.Begin(Store);
        Wait();
        meanwhile?.Invoke();
        var taken = new TakenBaseline(Parts, new TableBaseline("PARTS", 7, 0, new string('a', 32)));
        taking.Keep([taken]);
        return taken.Baseline;
    }

    [Fact]
    public void It_is_known_as_long_as_nobody_wrote_to_the_store()
    {
        TableBaseline taken = Read();
        Assert.Same(taken, _known.Of(Store)(Parts));
        File.WriteAllText(Store.Path, "recordz");
        Assert.Null(_known.Of(Store)(Parts));
    }

    [Fact]
    public void What_was_written_to_while_it_was_read_has_none()
    {
        Read(() => File.WriteAllText(Store.Path, "recordz"));
        Assert.Null(_known.Of(Store)(Parts));
    }

    [Fact]
    public void What_was_written_to_a_moment_before_it_was_read_has_none()
    {
        // A machine that stops here for a while makes it long enough ago.
        Assert.Contains(Enumerable.Range(0, 20), _ =>
        {
            Read(isSettled: false);
            return _known.Of(Store)(Parts) is null;
        });
    }

    [Fact]
    public void Of_another_store_or_another_table_nothing_is_known()
    {
        Read();
        File.Copy(Store.Path, _folder["other.db"]);
        Assert.Null(_known.Of(Store with { Path = _folder["other.db"] })(Parts));
        Assert.Null(_known.Of(Store)(Parts with { Name = "STOCK" }));
        Assert.Null(_known.Of(Store)(Parts with { Key = [] }));
        Assert.Null(_known.Of(Store)(Parts with { Columns = [Parts.Columns[1], Parts.Columns[0]] }));
        Assert.Null(_known.Of(Store)(Parts with { Columns = [Parts.Columns[0] with { Type = FieldType.Text }, Parts.Columns[1]] }));
        // Of a private column no number may be told.
        Assert.Null(_known.Of(Store)(Parts with { Columns = [Parts.Columns[0] with { IsPrivate = true }, Parts.Columns[1]] }));
        Assert.NotNull(_known.Of(Store)(Parts with { Relations = [new RelationShape(["NAME"], "STOCK", ["NAME"])] }));
    }

    [Fact]
    public void A_store_that_gave_nothing_the_second_time_is_forgotten()
    {
        Read();
        _known.Begin(Store).Keep([]);
        Assert.Null(_known.Of(Store)(Parts));
    }
}
