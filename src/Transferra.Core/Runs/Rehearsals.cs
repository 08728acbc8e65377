// Rehearsals.cs: what rehearsals came to, and what of them is left on disk and servers: transferra/rehearsals/<id>.json says how one came
// out, <id>.made.json what it made and where, until that is removed.
using System.Collections.ObjectModel;
using System.Text.Json;
using System.Text.Json.Serialization.Metadata;
using Transferra.Core.Machine;

namespace Transferra.Core.Runs;

/// <summary>A stage of a rehearsal.</summary>
public sealed record RehearsedStage(string Stage, double Seconds);

/// <summary>A hop of a rehearsal.</summary>
public sealed record RehearsedHop(string From, string To, double Seconds);

/// <summary>A company in a rehearsal.</summary>
/// <param name="Company">Its code.</param>
/// <param name="From">The version it has.</param>
/// <param name="To">The version it was to reach: the one wanted, or the last before a hop that is left for the night.</param>
/// <param name="Source">The set its copy was made from; "" for a snapshot of the moment.</param>
/// <param name="SourceAt">When that was made.</param>
/// <param name="Outcome">through; stopped; waits (for what a person does by hand); not-rehearsed.</param>
/// <param name="Reasons">Why it would stop.</param>
public sealed record RehearsedCompany(string Company, string From, string To, string Source, DateTimeOffset? SourceAt, string Outcome,
    IReadOnlyList<string> Reasons)
{
    /// <summary>Its stages, as long as they took.</summary>
    public IReadOnlyList<RehearsedStage> Stages { get => field ?? []; init; }

    /// <summary>The hops of its way.</summary>
    public IReadOnlyList<RehearsedHop> Hops { get => field ?? []; init; }

    /// <summary>What took longest: tables, statements, files.</summary>
    public IReadOnlyList<TimedPart> Longest { get => field ?? []; init; }

    /// <summary>Records in the copy.</summary>
    public long Records { get; init; }

    /// <summary>What the match came to; "" where there was none.</summary>
    public string Verdict { get => field ?? ""; init; }

    /// <summary>Whether the original is, by its digest, what it was before; when it is not, people worked with it meanwhile, or the
    /// vendor's conversion wrote to it.</summary>
    public bool IsOriginalAsBefore { get; init; }

    /// <summary>Where the new store can be looked at; "" when it is gone.</summary>
    public string Kept { get => field ?? ""; init; }

    /// <summary>All stages together.</summary>
    public double Seconds => Stages.Sum(stage => stage.Seconds);
}

/// <summary>A rehearsal.</summary>
/// <param name="Id">Date and time it began, UTC.</param>
/// <param name="At">The same.</param>
/// <param name="Companies">Its companies.</param>
public sealed record Rehearsal(string Id, DateTimeOffset At, IReadOnlyList<RehearsedCompany> Companies);

/// <summary>What a rehearsal made.</summary>
/// <param name="Id">The rehearsal.</param>
/// <param name="Folder">Full path of its folder.</param>
/// <param name="Token">The word in the folder's mark, by which it is known to be ours.</param>
/// <param name="Companies">Codes of its companies.</param>
/// <param name="IsKept">Whether somebody wants to look at it.</param>
public sealed record RehearsalMade(string Id, string Folder, string Token, IReadOnlyList<string> Companies, bool IsKept)
{
    /// <summary>The version that each company is to reach, which may be an earlier one than the night's.</summary>
    public IReadOnlyDictionary<string, string> Reached { get => field ?? ReadOnlyDictionary<string, string>.Empty; init; }

    /// <summary>Name of the mark in its folder.</summary>
    internal const string MarkName = "transferra-rehearsal.json";

    /// <summary>Whether the folder is the one that was made.</summary>
    internal bool IsOurs => ResultJson.Load(Path.Combine(Folder, MarkName), RunsJson.Form.RehearsalMade)?.Token == Token;
}

/// <summary>The rehearsals of an office.</summary>
/// <param name="officeFolder">Folder of office.yaml.</param>
/// <param name="volume">The disk.</param>
public sealed class Rehearsals(string officeFolder, IVolume volume)
{
    private const string Made = ".made.json";

    /// <summary>Their folder.</summary>
    public string Folder => Path.Combine(officeFolder, "transferra", "rehearsals");

    /// <summary>Where the journal, the results and the lists of one are kept.</summary>
    public string ResultsOf(string id) => Path.Combine(Folder, id);

    /// <summary>All that came to an end, newest first.</summary>
    public IReadOnlyList<Rehearsal> List() => [.. Files("*.json").Where(file => !file.EndsWith(Made, StringComparison.Ordinal))
        .Select(path => ResultJson.Load(path, RunsJson.Form.Rehearsal)).OfType<Rehearsal>().OrderByDescending(one => one.At)];

    /// <summary>Those of which something is left, oldest first.</summary>
    public IReadOnlyList<RehearsalMade> Left() => [.. Files("*" + Made)
        .Select(path => ResultJson.Load(path, RunsJson.Form.RehearsalMade)).OfType<RehearsalMade>()];

    private string[] Files(string like) => Directory.Exists(Folder)
        ? [.. Directory.EnumerateFiles(Folder, like).Order(StringComparer.Ordinal)] : [];

    /// <summary>Keeps how one came out.</summary>
    public void Save(Rehearsal rehearsal) => Write(rehearsal.Id + ".json", rehearsal, RunsJson.Form.Rehearsal);

    /// <summary>Says what is about to be made, before it is.</summary>
    internal void Announce(RehearsalMade made) => Write(made.Id + Made, made, RunsJson.Form.RehearsalMade);

    /// <summary>Says that nothing is left.</summary>
    internal void Forget(RehearsalMade made) => volume.Remove(Path.Combine(Folder, made.Id + Made));

    private void Write<T>(string name, T what, JsonTypeInfo<T> form)
    {
        volume.CreateFolder(Folder);
        volume.Replace(Path.Combine(Folder, name), JsonSerializer.SerializeToUtf8Bytes(what, form));
    }
}
