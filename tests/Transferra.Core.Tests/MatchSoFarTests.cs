using System.Reflection;
using System.Text.Json;
using Transferra.Core.Conversion;
using Transferra.Core.Kits;
using Transferra.Core.Matching;
using Transferra.Core.Records;
using Transferra.Tests;

namespace Transferra.Core.Tests;

/// <summary>A match that is interrupted goes on where it was, and comes to what one comes to that was not.</summary>
public sealed class MatchSoFarTests : IDisposable
{
    private readonly Correspondence _hop = SampleKit.LoadHop();
    private readonly MemoryStore _old;
    private readonly MemoryStore _new = new();

    public MatchSoFarTests()
    {
        _old = SampleKit.Store(_hop, [.. Enumerable.Range(1, 50).Select(i => SampleKit.Part(i, "part " + i, $"{i}.00", made: "01/03/21"))]);
        _old.With(_hop.From.Table("MEMO")!, ["A", 1L, "one"], ["A", 2L, "two"]);
        ConversionPass.Run(_old, _new, _hop, SampleKit.Settings, _ => { }, new ListObserver(), CancellationToken.None);
        _old.Answers["old prices"] = _new.Answers["new prices"] = new QueryAnswer(["a", "b"], [["S", "1275.00"]]);
    }

    public void Dispose()
    {
        _old.Dispose();
        _new.Dispose();
    }

    // Both stores note what is read, and fail at the n-th reading of both together.
    private sealed class Readings(int failAt)
    {
        public List<string> Read { get; } = [];

        public void Note(string side, string table)
        {
            lock (Read)
            {
                Read.Add($"{side} {table}");
                if (Read.Count >= failAt) throw new IOException("interrupted");
            }
        }
    }

#pragma warning disable CA1852 // the proxy is a class made from it
    private class Watched : DispatchProxy
#pragma warning restore CA1852
    {
        public IStore Store { get; set; } = null!;
        public Readings Readings { get; set; } = null!;
        public string Side { get; set; } = "";

        protected override object? Invoke(MethodInfo? targetMethod, object?[]? args)
        {
            if (targetMethod!.Name == nameof(IStore.Read)) Readings.Note(Side, ((TableShape)args![0]!).Name);
            try { return targetMethod.Invoke(Store, args); }
            catch (TargetInvocationException error) { throw error.InnerException!; }
        }
    }

    private static IStore Watch(MemoryStore store, string side, Readings readings)
    {
        IStore proxy = DispatchProxy.Create<IStore, Watched>();
        (((Watched)proxy).Store, ((Watched)proxy).Side, ((Watched)proxy).Readings) = (store, side, readings);
        return proxy;
    }

    private MatchResult Match(Readings readings, MatchSoFar? soFar) =>
        new CompanyMatch(_hop, SampleKit.Settings, new ListObserver(), CancellationToken.None) { SoFar = soFar }
            .Run(Watch(_old, "old", readings), Watch(_new, "new", readings));

    private static string Told(MatchResult match) => JsonSerializer.Serialize((match with { TakenOver = 0 }, match.Recorded));

    private static MatchSoFar Keeping(IReadOnlyList<PartSoFar> known, List<PartSoFar> kept, DateTimeOffset? settledAt = null) =>
        new(known, settledAt ?? DateTimeOffset.MinValue, parts =>
        {
            kept.Clear();
            kept.AddRange(parts);
        }, TimeSpan.Zero);

    [Theory]
    [InlineData(false)]
    [InlineData(true)] // with a difference, which is told again
    public void Interrupted_at_any_reading_it_goes_on_and_comes_to_the_same(bool differs)
    {
        if (differs) _new.Tables["grp"].Rows[0][1] = "other";
        string whole = Told(Match(new Readings(int.MaxValue), null));
        int takenOver = 0, interrupted = 0;
        for (int n = 1; ; n++)
        {
            var kept = new List<PartSoFar>();
            var first = new Readings(n);
            try
            {
                Match(first, Keeping([], kept));
                break;
            }
            catch (IOException) { interrupted++; }
            PartSoFar[] known = [.. kept];
            HashSet<string> skipped = [.. known.SelectMany(part => part.Tables).Select(table => "new " + table.Table.Name)];
            var again = new Readings(int.MaxValue);
            MatchResult resumed = Match(again, Keeping(known, kept));
            Assert.Equal(whole, Told(resumed));
            Assert.Equal(skipped.Count, resumed.TakenOver);
            Assert.DoesNotContain(again.Read, skipped.Contains);
            Assert.DoesNotContain("new grp", differs ? skipped : []);
            // What feeds a table that was taken over is not read either, unless another table looks something up in it.
            if (skipped.Contains("new part")) Assert.DoesNotContain("old PART", again.Read);
            Assert.Equal(skipped.Contains("new part"), skipped.Contains("new part_name"));
            takenOver += skipped.Count;
        }
        Assert.InRange(interrupted, 6, 100);
        Assert.InRange(takenOver, 4, 1000);
    }

    [Fact]
    public void What_was_read_before_the_stores_had_settled_is_not_kept_and_what_is_of_another_hop_is_not_taken_over()
    {
        var kept = new List<PartSoFar>();
        Match(new Readings(int.MaxValue), Keeping([], kept, DateTimeOffset.UtcNow.AddMinutes(1)));
        Assert.Empty(kept);
        Match(new Readings(int.MaxValue), Keeping([], kept));
        PartSoFar parts = Assert.Single(kept, part => part.Tables.Count == 2);
        string[] names = [.. parts.Tables.Select(table => table.Table.Name).Order(StringComparer.Ordinal)];
        Assert.Equal(["part", "part_name"], names);
        Assert.Equal("PART", Assert.Single(parts.Accounts).Table);
        // Half a part, or one fed by something else, is nothing.
        foreach (PartSoFar of in (PartSoFar[])[parts with { Tables = [parts.Tables[0]] }, parts with { Accounts = [] },
            parts with { Tables = [parts.Tables[0] with { Table = parts.Tables[0].Table with { Name = "unknown" } }] }])
            Assert.Equal(0, Match(new Readings(int.MaxValue), Keeping([of], [])).TakenOver);
        Assert.Equal(2, Match(new Readings(int.MaxValue), Keeping([parts], [])).TakenOver);
    }
}
