using Transferra.Core.Office;
using Transferra.Core.Records;
using Transferra.Tests;

namespace Transferra.Core.Tests;

public sealed class MarkedReadingTests : IDisposable
{
    private readonly TempFolder _folder = new();

    public void Dispose() => _folder.Dispose();

    private StoreAddress Store => new("sqlite", _folder["books.db"]);

    // Files need nobody who knows the engines.
    private MarkedReading Begin() => new(Store, null!);

    private StoreMark? Now => StoreMark.Of(Store, null!);

    private static readonly TimeSpan Long = TimeSpan.FromMilliseconds(60);

    [Fact]
    public void What_nobody_wrote_to_is_known_again_by_its_mark_and_any_later_change_is_seen()
    {
        File.WriteAllText(_folder["books.db"], "records");
        MarkedReading reading = Begin();
        Thread.Sleep(Long);
        Assert.NotNull(reading.Undisturbed());
        Assert.Equal(reading.Undisturbed()!.Text, Now!.Text);
        // Of the same length, and with its time set back.
        DateTime was = File.GetLastWriteTimeUtc(_folder["books.db"]);
        File.WriteAllText(_folder["books.db"], "recordz");
        File.SetLastWriteTimeUtc(_folder["books.db"], was);
        Assert.NotEqual(reading.Undisturbed()?.Text, Now!.Text);
        Assert.Null(reading.Undisturbed());
    }

    [Fact]
    public void What_was_read_too_quickly_for_the_clock_to_go_on_is_not_known()
    {
        File.WriteAllText(_folder["books.db"], "records");
        // A machine that stops here for a while makes it slow enough.
        Assert.Contains(Enumerable.Range(0, 20), _ => Begin().Undisturbed() is null);
    }

    [Fact]
    public void A_file_that_comes_beside_the_store_disturbs_the_reading()
    {
        File.WriteAllText(_folder["books.db"], "records");
        MarkedReading reading = Begin();
        Thread.Sleep(Long);
        File.WriteAllText(_folder["books.db-wal"], "changes that wait");
        Assert.Null(reading.Undisturbed());
    }

    [Fact]
    public void A_store_that_is_not_there_has_no_reading() => Assert.Null(Begin().Undisturbed());
}
