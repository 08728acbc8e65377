using Transferra.Tests;

namespace Transferra.Cli.Tests;

/// <summary>The program is killed for real; what it leaves can be finished, or taken back to the last byte.</summary>
internal static class Killed
{
    public static readonly string[] Upgrade = ["upgrade", "QIH", "--yes", "QIH"];

    public static string NewStore(DemoFolder office) => office.DataSignature()["QIH/ledger.db"];

    /// <summary>Digest of the new store after an upgrade that nobody kills: it is the same each time.</summary>
    public static string Straight => Unkilled.Value;

    private static readonly Lazy<string> Unkilled = new(() =>
    {
        using DemoFolder office = DemoFolder.OfOne();
        BuiltProgram.RunServed(office.Path, Upgrade).Expect(0);
        return NewStore(office);
    });

    public static void Recover(DemoFolder office, bool undo)
    {
        Called called = undo ? BuiltProgram.RunServed(office.Path, "undo", "--yes", "QIH")
            : BuiltProgram.RunServed(office.Path, "upgrade", "--resume");
        if (called.ExitCode == 2) called.Says(undo ? "there is no run to undo" : "nothing to resume");
        else called.Expect(0);
    }

    /// <summary>Kills an upgrade at each of its operations on the disk until none is left; each time on an office of its own.</summary>
    /// <remarks>Daily, every twenty-third operation is resumed and another undone; in the soak run, all of them are both.</remarks>
    public static void AtEveryOperation(bool thenUndo)
    {
        bool soak = Seeds.IsSoak;
        int killed = 0;
        for (int n = thenUndo || soak ? 1 : 9; ; n += soak ? 1 : 23)
        {
            using DemoFolder office = DemoFolder.OfOne();
            IReadOnlyDictionary<string, string> before = office.DataSignature();
            IReadOnlyDictionary<string, UnixFileMode> modes = office.Modes();
            Called called = BuiltProgram.RunUntil(n, office.Path, Upgrade);
            if (called.ExitCode == 0) break;
            Assert.Equal(137, called.ExitCode);
            killed++;
            Recover(office, thenUndo);
            // Closed for the upgrade it may still be; then it can be opened.
            BuiltProgram.Run(office.Path, "reopen").Expect(0);
            foreach ((string folder, UnixFileMode mode) in modes.Where(entry => Directory.Exists(office[entry.Key]))) Assert.Equal(mode,
                File.GetUnixFileMode(office[folder]));
            // Killed before the run began there is nothing to resume, and everything is as it was.
            if (thenUndo || !Directory.Exists(office["transferra/runs"])
                || NewStore(office) == before["QIH/ledger.db"]) Assert.Equal(before, office.DataSignature());
            else Assert.Equal(Straight, NewStore(office));
        }
        Assert.InRange(killed, 6, 400);
    }
}

public sealed class KilledAtOperationsThenUndoneTests
{
    [Fact]
    public void Killed_at_any_operation_on_the_disk_it_can_be_undone() => Killed.AtEveryOperation(thenUndo: true);
}

public sealed class KilledAtOperationsThenResumedTests
{
    [Fact]
    public void Killed_at_any_operation_on_the_disk_it_can_be_resumed() => Killed.AtEveryOperation(thenUndo: false);
}

public sealed class KilledAtTimesTests
{
    [Fact] // in the middle of what the engine writes, too
    public void Killed_at_any_time_it_can_be_resumed_or_undone()
    {
        var random = new Random(20_26);
        int killed = 0;
        for (int trial = 0; trial < 6; trial++)
        {
            using var office = new DemoFolder();
            IReadOnlyDictionary<string, string> before = office.DataSignature();
            if (!BuiltProgram.RunFor(TimeSpan.FromMilliseconds(300 + random.Next(4500)), office.Path, Killed.Upgrade)) continue;
            killed++;
            Killed.Recover(office, undo: trial % 2 == 0);
            if (trial % 2 == 0 || Killed.NewStore(office) == before["QIH/ledger.db"]) Assert.Equal(before, office.DataSignature());
            else BuiltProgram.Run(office.Path, "match", "QIH").Expect(0);
        }
        Assert.InRange(killed, 2, 6);
    }
}

public sealed class KilledWhileRecoveringTests
{
    // At this operation on the disk an upgrade of one company is between the two renames of its change-over, when the store is not there:
    // for four operations.
    private static readonly Lazy<int> Away = new(() =>
    {
        // Killed before it, the old store is in its place; behind it, the new one, or the upgrade ends unkilled.
        (int before, int behind) = (0, 4096);
        while (behind - before > 1)
        {
            int n = (before + behind) / 2;
            using DemoFolder trial = DemoFolder.OfOne();
            string old = Killed.NewStore(trial);
            if (BuiltProgram.RunUntil(n, trial.Path, Killed.Upgrade).ExitCode != 137) behind = n;
            else if (!File.Exists(trial.Store("QIH"))) return n;
            else if (Killed.NewStore(trial) == old) before = n;
            else behind = n;
        }
        throw new InvalidOperationException("the store was never away");
    });

    // Killed in the middle of the change-over, then again and again while it resumes or undoes: still the one or the other.
    [Theory]
    [InlineData(false)]
    [InlineData(true)]
    public void Killed_again_while_it_recovers_it_still_comes_to_an_end(bool thenUndo)
    {
        bool soak = Seeds.IsSoak;
        using DemoFolder office = DemoFolder.OfOne();
        IReadOnlyDictionary<string, string> before = office.DataSignature();
        Assert.Equal(137, BuiltProgram.RunUntil(Away.Value, office.Path, Killed.Upgrade).ExitCode);
        Assert.False(File.Exists(office.Store("QIH")));
        for (int again = 1; ; again += soak ? 1 : 9)
        {
            Called called = BuiltProgram.RunUntil(again, office.Path, thenUndo ? ["undo", "--yes", "QIH"] : ["upgrade", "--resume"]);
            if (called.ExitCode == 0) break;
            // Killed behind the last line of the run, where only the page to be signed is written.
            if (called.ExitCode == 2 && !thenUndo)
            {
                called.Says("nothing to resume");
                break;
            }
            // Killed behind the last line of the undo, before the office was opened again.
            if (called.ExitCode == 2 && thenUndo)
            {
                called.Says("there is no run to undo", "transferra reopen");
                BuiltProgram.Run(office.Path, "reopen").Expect(0);
                break;
            }
            called.Expect(137);
        }
        if (thenUndo) Assert.Equal(before, office.DataSignature());
        else Assert.Equal(Killed.Straight, Killed.NewStore(office));
    }
}
