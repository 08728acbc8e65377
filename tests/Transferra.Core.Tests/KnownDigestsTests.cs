using Transferra.Core.Machine;
using Transferra.Core.Office;
using Transferra.Core.Records;
using Transferra.Tests;

namespace Transferra.Core.Tests;

public sealed class KnownDigestsTests : IDisposable
{
    private readonly TempFolder _folder = new();
    private readonly KnownDigests _digests = new(null!); // files need nobody who knows the engines
    private int _readings;

    public void Dispose() => _folder.Dispose();

    private StoreAddress Store => new("sqlite", _folder["books.db"]);

    private string Read()
    {
        _readings++;
        string digest = StoreDigest.Of(Store);
        Thread.Sleep(TimeSpan.FromMilliseconds(60)); // so that the volume's clock goes on, as it does while much is read
        return digest;
    }

    private void Write(string records) => File.WriteAllText(_folder["books.db"], records);

    [Fact]
    public void What_nobody_wrote_to_is_read_once()
    {
        Write("records");
        string digest = _digests.Taken(Store, Read);
        Assert.Equal(digest, _digests.KnownOrTaken(Store, Read));
        Assert.Equal(1, _readings);
        // Whoever asks for all of its bytes gets them.
        _digests.Taken(Store, Read);
        Assert.Equal(2, _readings);
    }

    public static TheoryData<string> Changes =>
        ["written to, its time set back", "another file under its name", "changes beside it", "gone and back"];

    [Theory]
    [MemberData(nameof(Changes))]
    public void What_was_changed_is_read_again(string change)
    {
        Write("records");
        string digest = _digests.Taken(Store, Read), path = _folder["books.db"];
        DateTime was = File.GetLastWriteTimeUtc(path);
        switch (change)
        {
            case "written to, its time set back": Write("recordz"); break;
            case "another file under its name":
                File.WriteAllText(path + ".other", "recordz");
                File.Move(path + ".other", path, overwrite: true);
                break;
            case "changes beside it": File.WriteAllText(path + "-wal", "changes that wait"); break;
            default:
                File.Delete(path);
                Write("recordz");
                break;
        }
        File.SetLastWriteTimeUtc(path, was);
        Assert.NotEqual(digest, _digests.KnownOrTaken(Store, Read));
        Assert.Equal(2, _readings);
    }

    [Fact]
    public void What_is_written_to_while_it_is_read_has_no_known_digest()
    {
        Write("records");
        _digests.Taken(Store, () =>
        {
            string digest = Read();
            Write("recordz");
            return digest;
        });
        Assert.Equal(StoreDigest.Of(Store), _digests.KnownOrTaken(Store, Read));
    }

    [Fact]
    public void What_was_read_too_quickly_for_the_clock_to_go_on_is_read_again()
    {
        Write("records");
        // A machine that stops here for a while makes it slow enough.
        Assert.Contains(Enumerable.Range(0, 20), _ =>
        {
            int readings = _readings;
            _digests.Taken(Store, () => "at once");
            return _digests.KnownOrTaken(Store, Read) != "at once" && _readings == readings + 1;
        });
    }

    [Fact]
    public void A_server_is_asked_each_time()
    {
        var books = new StoreAddress("postgresql", "books", Server: new ServerAddress("127.0.0.1", 1, "nobody", null));
        string Ask() => $"answer {++_readings}";
        Assert.Equal("answer 1", _digests.Taken(books, Ask));
        Assert.Equal("answer 2", _digests.KnownOrTaken(books, Ask));
    }

    [Fact]
    public void A_rename_that_is_our_own_makes_it_a_store_that_nobody_has_looked_at()
    {
        Write("records");
        var places = new StorePlaces(null!, new DiskVolume());
        var aside = new StoreAddress("sqlite", _folder["aside.db"]);
        string digest = _digests.Taken(Store, Read);
        places.Rename(Store, aside);
        Assert.Equal(digest, _digests.KnownOrTaken(aside, () => { _readings++; return StoreDigest.Of(aside); }));
        Assert.Equal(2, _readings);
    }
}
