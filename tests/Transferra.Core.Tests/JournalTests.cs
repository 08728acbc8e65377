using System.Text;
using Transferra.Core.Machine;
using Transferra.Core.Office;
using Transferra.Core.Records;
using Transferra.Core.Runs;
using Transferra.Tests;

namespace Transferra.Core.Tests;

public sealed class JournalTests : IDisposable
{
    private readonly TempFolder _folder = new();
    private readonly DiskVolume _volume = new();

    private string FilePath => _folder["runs/journal.jsonl"];

    private JournalPlace Place => new(FilePath, _folder["heads/run.json"], "give it up");

    public JournalTests() => Directory.CreateDirectory(_folder["runs"]);

    public void Dispose() => _folder.Dispose();

    private Journal Written(int lines, Action? afterEach = null)
    {
        Journal journal = Journal.Create(_volume, Place);
        for (int i = 1; i <= lines; i++)
        {
            journal.Append("QIH", "convert", i % 2 == 1 ? "announced" : "done", new Dictionary<string,
                string>
            { ["n"] = $"{i} é \"quoted\"" });
            afterEach?.Invoke();
        }

        return journal;
    }

    [Fact]
    public void What_was_written_is_read_back_with_the_same_chain()
    {
        Journal written = Written(4), read = Journal.Open(_volume, Place, toContinue: true);
        Assert.Equal(written.Entries.Select(entry => (entry.Number, entry.State, entry.Facts["n"])),
            read.Entries.Select(entry => (entry.Number, entry.State, entry.Facts["n"])));
        Assert.Equal(written.LastDigest, read.LastDigest);
        Assert.Equal("done", read.Last("QIH", "convert")!.State);
        Assert.Null(read.Last("QWS", "convert"));
    }

    [Fact] // J3, J5: the machine stops at any byte; the head is then that of the last whole line or of the one before
    public void Cut_at_any_byte_by_a_stop_it_opens_with_the_whole_lines_before_and_can_be_continued()
    {
        var heads = new List<byte[]>();
        Written(3, () => heads.Add(File.ReadAllBytes(Place.Head)));
        byte[] all = File.ReadAllBytes(FilePath);
        for (int length = 0; length <= all.Length; length++)
            foreach (int behind in (int[])[0, 1])
            {
                int whole = all.AsSpan(0, length).Count((byte)'\n');
                File.WriteAllBytes(FilePath, all[..length]);
                if (whole - behind < 1) File.Delete(Place.Head);
                else File.WriteAllBytes(Place.Head, heads[whole - behind - 1]);
                if (whole - behind < 1 && whole > 1) continue;
                Journal cut = Journal.Open(_volume, Place, toContinue: true);
                Assert.Equal(whole, cut.Entries.Count);
                cut.Append("QIH", "convert", "again");
                Assert.Equal("again", Journal.Open(_volume, Place, toContinue: false).Entries[^1].State);
            }
    }

    [Theory] // J5
    [InlineData(0)]
    [InlineData(1)]
    [InlineData(3)]
    public void Cut_short_or_emptied_by_hand_it_is_refused(int linesLeft)
    {
        Written(4);
        string[] lines = File.ReadAllLines(FilePath);
        File.WriteAllText(FilePath, string.Concat(lines.Take(linesLeft).Select(line => line + "\n")), new UTF8Encoding(false));
        Assert.Contains($"was cut short: it has {linesLeft} lines, and had 4", Assert.Throws<TransferraException>(() =>
            Journal.Open(_volume, Place, toContinue: true)).Message, StringComparison.Ordinal);
        Assert.Equal(linesLeft, Journal.Look(_volume, Place).Entries.Count);
    }

    [Theory] // J5
    [InlineData("gone", "its head")]
    [InlineData("torn", "cannot be read")]
    [InlineData("of another journal", "is not the one that was written")]
    public void Without_its_head_it_is_refused(string how, string says)
    {
        Written(2);
        switch (how)
        {
            case "gone": File.Delete(Place.Head); break;
            case "torn": File.WriteAllText(Place.Head, "{\"lines\":2,"); break;
            default: File.WriteAllText(Place.Head, $"{{\"lines\":2,\"sha256\":\"{new string('a', 64)}\"}}"); break;
        }
        Assert.Contains(says, Assert.Throws<TransferraException>(() => Journal.Open(_volume, Place, toContinue: false)).Message,
            StringComparison.Ordinal);
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
            Assert.Throws<TransferraException>(() => Journal.Open(_volume, Place, toContinue: false));
        }
    }

    [Fact] // J4
    public void A_line_taken_out_or_put_in_is_refused()
    {
        Written(4);
        string[] lines = File.ReadAllLines(FilePath);
        foreach (string[] altered in (string[][])[[lines[0], lines[2], lines[3]], [lines[0], lines[1], lines[1], lines[2]],
            [lines[1], lines[0], lines[2]]])
        {
            File.WriteAllText(FilePath, string.Join('\n', altered) + "\n", new UTF8Encoding(false));
            Assert.Contains("was altered",
                Assert.Throws<TransferraException>(() => Journal.Open(_volume, Place, toContinue: false)).Message,
                StringComparison.Ordinal);
        }
    }

    [Fact]
    public void A_line_that_could_not_be_written_is_not_counted()
    {
        var volume = new FaultyVolume(_volume, failAt: 6);
        Journal journal = Journal.Create(volume, Place); // three operations; each line has two
        journal.Append("", "run", "begun");
        Assert.Throws<JournalException>(() => journal.Append("", "run", "ended"));
        Assert.Single(journal.Entries);
    }

    [Fact] // J3: a line written in part, then another behind it, would break the chain for good
    public void After_a_line_that_failed_nothing_is_appended_until_the_journal_is_opened_anew()
    {
        var volume = new FaultyVolume(_volume, failAt: 6, afterwards: true);
        Journal journal = Journal.Create(volume, Place);
        journal.Append("", "run", "begun");
        Assert.Throws<JournalException>(() => journal.Append("QIH", "convert", "announced"));
        byte[] torn = File.ReadAllBytes(FilePath)[..^20];
        File.WriteAllBytes(FilePath, torn);
        Assert.Throws<JournalException>(() => journal.Append("QIH", "convert", "stopped"));
        Assert.Equal(torn, File.ReadAllBytes(FilePath));
        Journal again = Journal.Open(_volume, Place, toContinue: true);
        again.Append("QIH", "convert", "stopped");
        Assert.Equal(["begun", "stopped"], Journal.Open(_volume, Place, toContinue: false).Entries.Select(entry => entry.State));
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
