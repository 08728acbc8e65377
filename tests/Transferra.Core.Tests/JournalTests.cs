using System.Text;
using Transferra.Core.Records;
using Transferra.Core.Runs;
using Transferra.Tests;

namespace Transferra.Core.Tests;

public sealed class JournalTests : IDisposable
{
    private readonly TempFolder _folder = new();
    private readonly DiskVolume _volume = new();

    private string FilePath => _folder["journal.jsonl"];

    public void Dispose() => _folder.Dispose();

    private Journal Written(int lines)
    {
        Journal journal = Journal.Create(_volume, FilePath);
        for (int i = 1; i <= lines; i++) journal.Append("QIH", "convert", i % 2 == 1 ? "announced" : "done", new Dictionary<string, string> { ["n"] = $"{i} é \"quoted\"" });
        return journal;
    }

    [Fact]
    public void What_was_written_is_read_back_with_the_same_chain()
    {
        Journal written = Written(4), read = Journal.Open(_volume, FilePath, toContinue: true);
        Assert.Equal(written.Entries.Select(entry => (entry.Number, entry.State, entry.Facts["n"])), read.Entries.Select(entry => (entry.Number, entry.State, entry.Facts["n"])));
        Assert.Equal(written.LastDigest, read.LastDigest);
        Assert.Equal("done", read.Last("QIH", "convert")!.State);
        Assert.Null(read.Last("QWS", "convert"));
    }

    [Fact] // J3
    public void Cut_at_any_byte_it_opens_with_the_whole_lines_before_and_can_be_continued()
    {
        Written(3);
        byte[] all = File.ReadAllBytes(FilePath);
        for (int length = 0; length <= all.Length; length++)
        {
            File.WriteAllBytes(FilePath, all[..length]);
            Journal cut = Journal.Open(_volume, FilePath, toContinue: true);
            Assert.Equal(all.AsSpan(0, length).Count((byte)'\n'), cut.Entries.Count);
            cut.Append("QIH", "convert", "again");
            Assert.Equal("again", Journal.Open(_volume, FilePath, toContinue: false).Entries[^1].State);
        }
    }

    [Fact] // J4: each byte of all lines but the last one, which nothing follows yet
    public void Altered_at_any_byte_before_the_last_line_it_is_refused()
    {
        Written(3);
        byte[] all = File.ReadAllBytes(FilePath);
        int lastLine = Array.LastIndexOf(all, (byte)'\n', all.Length - 2) + 1;
        for (int at = 0; at < lastLine; at++)
        {
            byte[] altered = [.. all];
            altered[at] ^= 1;
            File.WriteAllBytes(FilePath, altered);
            Assert.Throws<TransferraException>(() => Journal.Open(_volume, FilePath, toContinue: false));
        }
    }

    [Fact] // J4
    public void A_line_taken_out_or_put_in_is_refused()
    {
        Written(4);
        string[] lines = File.ReadAllLines(FilePath);
        foreach (string[] altered in (string[][])[[lines[0], lines[2], lines[3]], [lines[0], lines[1], lines[1], lines[2]], [lines[1], lines[0], lines[2]]])
        {
            File.WriteAllText(FilePath, string.Join('\n', altered) + "\n", new UTF8Encoding(false));
            Assert.Contains("altered at line", Assert.Throws<TransferraException>(() => Journal.Open(_volume, FilePath, toContinue: false)).Message, StringComparison.Ordinal);
        }
    }

    [Fact]
    public void A_line_that_could_not_be_written_is_not_counted()
    {
        var volume = new FaultyVolume(_volume, failAt: 4);
        Journal journal = Journal.Create(volume, FilePath); // two operations
        journal.Append("", "run", "begun");
        Assert.Throws<IOException>(() => journal.Append("", "run", "ended"));
        Assert.Single(journal.Entries);
    }

    [Fact] // J3: a line written in part, then another behind it, would break the chain for good
    public void After_a_line_that_failed_nothing_is_appended_until_the_journal_is_opened_anew()
    {
        var volume = new FaultyVolume(_volume, failAt: 4, afterwards: true);
        Journal journal = Journal.Create(volume, FilePath);
        journal.Append("", "run", "begun");
        Assert.Throws<IOException>(() => journal.Append("QIH", "convert", "announced"));
        byte[] torn = File.ReadAllBytes(FilePath)[..^20];
        File.WriteAllBytes(FilePath, torn);
        Assert.Throws<IOException>(() => journal.Append("QIH", "convert", "stopped"));
        Assert.Equal(torn, File.ReadAllBytes(FilePath));
        Journal again = Journal.Open(_volume, FilePath, toContinue: true);
        again.Append("QIH", "convert", "stopped");
        Assert.Equal(["begun", "stopped"], Journal.Open(_volume, FilePath, toContinue: false).Entries.Select(entry => entry.State));
    }
}

public sealed class SwapTests : IDisposable
{
    private readonly TempFolder _folder = new();

    public void Dispose() => _folder.Dispose();

    private Swap Prepare(IVolume? volume = null)
    {
        _folder.Write("data/ledger.db", "old");
        _folder.Write("data/staged/v6/ledger.db", "new");
        return Over(volume ?? new DiskVolume());
    }

    private Swap Over(IVolume volume) => new(new StorePlaces(null!, volume),
        [new Move(At("data/ledger.db"), At("data/staged/old/ledger.db")), new Move(At("data/staged/v6/ledger.db"), At("data/ledger.db"))]);

    private StoreAddress At(string path) => StoreAddress.OfFiles(_folder[path]);

    [Fact]
    public void Forward_puts_the_new_in_place_and_Back_restores_every_name()
    {
        Swap swap = Prepare();
        Assert.Equal(0, swap.DoneMoves());
        swap.Forward();
        Assert.Equal("new", File.ReadAllText(_folder["data/ledger.db"]));
        Assert.Equal("old", File.ReadAllText(_folder["data/staged/old/ledger.db"]));
        swap.Forward(); // doing it again changes nothing
        Assert.Equal(2, swap.DoneMoves());
        swap.Back();
        Assert.Equal("old", File.ReadAllText(_folder["data/ledger.db"]));
        Assert.Equal("new", File.ReadAllText(_folder["data/staged/v6/ledger.db"]));
        swap.Back();
        Assert.Equal(0, swap.DoneMoves());
    }

    [Theory]
    [InlineData(false, false)]
    [InlineData(true, false)]
    [InlineData(false, true)]
    [InlineData(true, true)]
    public void Broken_off_at_any_operation_it_can_be_finished_or_taken_back(bool afterwards, bool thenBack)
    {
        for (int n = 1, fired = 1; fired > 0; n++)
        {
            Directory.Delete(_folder.Path, recursive: true);
            var volume = new FaultyVolume(new DiskVolume(), n, afterwards, forGood: true, () => new PowerCutException());
            try { Prepare(volume).Forward(); }
            catch (PowerCutException) { /* the point of the test */ }
            fired = volume.FaultsFired;
            Swap healed = Over(new DiskVolume());
            if (thenBack) healed.Back();
            else healed.Forward();
            Assert.Equal(thenBack ? "old" : "new", File.ReadAllText(_folder["data/ledger.db"]));
            Assert.Equal(thenBack ? 0 : 2, healed.DoneMoves());
        }
    }

    [Fact]
    public void What_fits_no_step_is_refused_and_left_alone()
    {
        Swap swap = Prepare();
        File.Delete(_folder["data/staged/v6/ledger.db"]);
        Assert.Contains("fits no step", Assert.Throws<TransferraException>(swap.Forward).Message, StringComparison.Ordinal);
        Assert.Equal("old", File.ReadAllText(_folder["data/ledger.db"]));
    }

    [Fact]
    public void A_rename_never_overwrites()
    {
        string from = _folder.Write("a", "1"), to = _folder.Write("b", "2");
        Assert.Throws<IOException>(() => new DiskVolume().Rename(from, to));
        Assert.Equal("2", File.ReadAllText(to));
    }
}
