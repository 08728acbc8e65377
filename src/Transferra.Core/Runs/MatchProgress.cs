// MatchProgress.cs: what the match of a company's way has come to, in the run's folder, so that one that was interrupted goes on:
// match-progress.json. It goes when the match is through.
// Holds: (1) what is taken over was read of the very stores, by the same kit, answers and release; (2) that they were not written to
// meanwhile is told by their marks (StoreMark.cs), looked at before they are opened, whenever something is kept, and when it is taken over;
// (3) where the run's folder cannot be written, nothing is kept.
using System.Security.Cryptography;
using System.Text.Json;
using Transferra.Core.Kits;
using Transferra.Core.Machine;
using Transferra.Core.Matching;
using Transferra.Core.Office;
using Transferra.Core.Records;

namespace Transferra.Core.Runs;

/// <summary>One hop, as far as it was compared.</summary>
/// <param name="Number">Which, from 0.</param>
/// <param name="Basis">Digest of all that the comparison depends on: both stores' marks, kit, answers, release.</param>
/// <param name="Parts">What is the same on both sides.</param>
internal sealed record HopSoFar(int Number, string Basis, IReadOnlyList<PartSoFar> Parts);

/// <summary>The progress of a match.</summary>
/// <param name="on">The company and its run.</param>
/// <param name="stores">One more than hops: the old store first, the newest last.</param>
/// <param name="made">The store that the vendor's new program made; null when it is of no concern.</param>
internal sealed class MatchProgress(CompanyRun on, IReadOnlyList<StoreAddress> stores, StoreAddress? made)
{
    private readonly Dictionary<StoreAddress, StoreMark?> _first = [];
    private List<HopSoFar>? _hops;
    private bool _isKept = true;

    private string PathOf => Path.Combine(on.ResultFolder, "match-progress.json");

    private List<HopSoFar> Hops => _hops ??= ResultJson.Load(PathOf, RunsJson.Form.ListHopSoFar) ?? [];

    /// <summary>What was kept of a hop, and where more of it is kept; null where that is not possible.</summary>
    /// <param name="hop">Which, from 0. Its stores are not open yet, but for the one that the hop before ended with.</param>
    public MatchSoFar? Of(int hop)
    {
        if (MarksOf(hop, BeforeItWasOpened) is not { } marks) return null;
        string basis = BasisOf(hop, marks);
        IReadOnlyList<PartSoFar> known = Hops.FirstOrDefault(kept => kept.Number == hop && kept.Basis == basis)?.Parts ?? [];
        return new MatchSoFar(known, marks.Max(mark => mark.SettledAt), parts =>
        {
            if (MarksOf(hop, MarkOf) is { } now && BasisOf(hop, now) == basis) Save(new HopSoFar(hop, basis, [.. parts]));
        }, on.Context.BetweenMatchMarks);
    }

    /// <summary>The match is through.</summary>
    public void Forget()
    {
        _hops = [];
        try
        {
            if (File.Exists(PathOf)) on.Context.Volume.Remove(PathOf);
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException) { /* it is of no use any more */ }
    }

    // Those of both stores of a hop, and of the vendor's where there is one.
    private StoreMark[]? MarksOf(int hop, Func<StoreAddress, StoreMark?> of)
    {
        StoreAddress[] all = [stores[hop], stores[hop + 1], .. made is null ? [] : new[] { made }];
        StoreMark?[] marks = [.. all.Select(of)];
        return marks.Contains(null) ? null : [.. marks.Select(mark => mark!)];
    }

    private StoreMark? MarkOf(StoreAddress store) => StoreMark.Of(store, on.Context.Stores);

    // The store that a hop ends with stays open for the next one, on what it was then.
    private StoreMark? BeforeItWasOpened(StoreAddress store)
    {
        if (!_first.TryGetValue(store, out StoreMark? mark)) _first.Add(store, mark = MarkOf(store));
        return mark;
    }

    private string BasisOf(int hop, StoreMark[] marks)
    {
        Hop of = on.Way.Hops[hop];
        string[] all = [on.Context.Tool, KitDigest, of.From.Name, of.To.Name, .. marks.Select(mark => mark.Text),
            .. stores.Skip(hop).Take(2).SelectMany(store => (string[])[store.Engine, store.Path, .. Texts(store.Options)]),
            .. Texts(on.Company.Answers)];
        return Convert.ToHexStringLower(SHA256.HashData(JsonSerializer.SerializeToUtf8Bytes(all, RunsJson.Default.StringArray)));
    }

    private static IEnumerable<string> Texts(IReadOnlyDictionary<string, string> said) => said
        .OrderBy(entry => entry.Key, StringComparer.Ordinal).SelectMany(entry => (string[])[entry.Key, entry.Value]);

    private string KitDigest => field ??= on.Company.Kit.IsNone ? "" : StoreDigest.Of(on.Company.Kit.Folder);

    private void Save(HopSoFar hop)
    {
        if (!_isKept) return;
        _hops = [.. Hops.Where(kept => kept.Number != hop.Number), hop];
        try { on.Context.Volume.Replace(PathOf, JsonSerializer.SerializeToUtf8Bytes(_hops, RunsJson.Form.ListHopSoFar)); }
        // Whoever may only look at the run matches all the same.
        catch (Exception error) when (error is IOException or UnauthorizedAccessException) { _isKept = false; }
    }
}
