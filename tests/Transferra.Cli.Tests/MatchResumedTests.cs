using Transferra.Core.Records;
using Transferra.Tests;

namespace Transferra.Cli.Tests;

/// <summary>A match that is killed goes on where it was, unless anything it rests on was changed meanwhile.</summary>
public sealed class MatchResumedTests : IDisposable
{
    private readonly OddOffice _office = new();

    public void Dispose() => _office.Dispose();

    private string Progress => Path.Combine(Assert.Single(Directory.GetDirectories(_office["transferra/runs"])), "A/match-progress.json");

    private string Converted(string engine)
    {
        _office.Add("A", engine, engine == "sqlite" ? "data/a.db" : "data/a", records: 40);
        _office.Ready();
        _office.Run("convert", "A").Expect(0);
        string staged = Path.Combine(Assert.Single(Directory.GetDirectories(_office["data"], "transferra-*")), "v2",
            engine == "sqlite" ? "a.db" : "a");
        Settle();
        return staged;
    }

    // As long as a change could fall into the tick of a coarse clock in which the last one was, nothing is kept.
    private static void Settle() => Thread.Sleep(2_200);

    [Theory]
    [InlineData("sqlite", 1)]
    [InlineData("sqlite", 2)]
    [InlineData("dbf", 2)]
    public void Killed_it_takes_over_what_it_had_come_to(string engine, int parts)
    {
        Converted(engine);
        BuiltProgram.RunUntilReplaced("match-progress.json", parts, _office.Path, "match", "A");
        Assert.True(File.Exists(Progress));
        string whole = _office.Run("match", "A").Expect(0).Says($"Taken over from the match that was interrupted: {parts} of 3 tables",
            "Proved: the new store of A holds what the old one gives, 43 records").Out;
        Assert.Contains("item", whole, StringComparison.Ordinal);
        Assert.False(File.Exists(Progress));
        Assert.DoesNotContain("Taken over", _office.Run("match", "A").Expect(0).Out, StringComparison.Ordinal);
    }

    [Fact]
    public void So_does_one_on_a_server_on_which_nobody_changes_anything()
    {
        using var servers = new TestServers();
        // The server on which few other tests are at work; while one changes something there, nothing is kept.
        StoreAddress store = servers.OnNewer("resumed");
        _office.Add("A", store, records: 40);
        _office.Ready();
        _office.Run("convert", "A").Expect(0);
        Called matched;
        var trying = System.Diagnostics.Stopwatch.StartNew();
        do
        {
            BuiltProgram.RunUntilReplaced("match-progress.json", 2, _office.Path, "match", "A");
            matched = _office.Run("match", "A").Expect(0).Says("Proved: the new store of A holds what the old one gives, 43 records");
        }
        while (!matched.Out.Contains("Taken over", StringComparison.Ordinal) && trying.Elapsed < TimeSpan.FromMinutes(3));
        matched.Says("Taken over from the match that was interrupted: 2 of 3 tables");
        BuiltProgram.RunUntilReplaced("match-progress.json", 2, _office.Path, "match", "A");
        TestServers.Execute(store, "UPDATE \"GRP\" SET \"TITLE\" = 'brasS' WHERE \"GNO\" = 1");
        Assert.DoesNotContain("Taken over", _office.Run("match", "A").Expect(1).Says("brasS").Out, StringComparison.Ordinal);
        _office.Run("undo", "--yes", "A").Expect(0);
    }

    [Fact]
    public void A_store_a_kit_or_an_office_that_was_changed_since_is_looked_at_anew()
    {
        string staged = Converted("sqlite");
        void killed() => BuiltProgram.RunUntilReplaced("match-progress.json", 3, _office.Path, "match", "A");
        Called anew(int exit)
        {
            Called matched = _office.Run("match", "A").Expect(exit);
            Assert.DoesNotContain("Taken over", matched.Out, StringComparison.Ordinal);
            return matched;
        }
        // The new store: a value that was compared before the kill, with the file's size and time of last change as they were.
        killed();
        DateTime was = File.GetLastWriteTimeUtc(staged);
        DemoFolder.Execute(staged, "UPDATE grp SET title = 'brasS' WHERE group_no = 1");
        File.SetLastWriteTimeUtc(staged, was);
        anew(1).Says("brasS");
        DemoFolder.Execute(staged, "UPDATE grp SET title = 'brass' WHERE group_no = 1");
        // The old one.
        Settle();
        killed();
        DemoFolder.Execute(_office["data/a.db"], "UPDATE GRP SET TITLE = 'wooD' WHERE GNO = 2");
        anew(1).Says("wooD");
        DemoFolder.Execute(_office["data/a.db"], "UPDATE GRP SET TITLE = 'wood' WHERE GNO = 2");
        // The kit.
        Settle();
        killed();
        File.AppendAllText(_office["kit/versions/2.yaml"], "# seen\n");
        anew(0);
        // What was kept itself: half of it, and with another number of records.
        killed();
        string kept = File.ReadAllText(Progress);
        File.WriteAllText(Progress, kept[..(kept.Length / 2)]);
        anew(0);
    }
}
