// KitTrust.cs: a kit may run programs and scripts; before it does, somebody who has seen which gives a word for it.
// Holds: (1) nothing of a kit is run before the word, or when what it runs has changed since; (2) a kit that runs nothing needs none.
using System.Globalization;
using Transferra.Core.Kits;
using Transferra.Core.Machine;

namespace Transferra.Core.Gates;

/// <summary>Whether a kit is trusted here.</summary>
public static class KitTrust
{
    private const int MostTold = 12, ShortDigits = 32;

    /// <summary>Name by which the word is given.</summary>
    public static string ConfirmOf(Kit kit) => $"{kit.Id}/kit";

    /// <summary>What the word is asked for; null when it runs nothing.</summary>
    public static string? Question(Kit kit)
    {
        IReadOnlyList<KitRun> runs = KitRuns.Of(kit);
        if (runs.Count == 0) return null;
        IEnumerable<string> told = runs.Take(MostTold).Select((run, i) => string.Create(CultureInfo.InvariantCulture,
            $"({i + 1}) for {run.For} {run.What}"));
        string more = runs.Count > MostTold ? string.Create(CultureInfo.InvariantCulture, $"; and {runs.Count - MostTold} more, see "
            + $"transferra kit show") : "";
        return $"The kit {kit.Id} is new here, or was altered. It runs: {string.Join("; ", told)}{more}. Of the kit: "
            + $"{KitSeal.Of(kit.Folder).Words}. What it runs has the digest {KitRuns.DigestOf(kit)[..ShortDigits]}. Do you trust it?";
    }

    /// <summary>Whether it may run what it runs.</summary>
    public static bool IsGiven(Kit kit, Words words) => Question(kit) is not { } question
        || words.For(ConfirmOf(kit), question) is not null;

    /// <summary>Refuses a kit that nobody has given a word for.</summary>
    /// <exception cref="TransferraException">Nobody has.</exception>
    public static void Require(Kit kit, Words words)
    {
        if (!IsGiven(kit, words)) throw NotGiven(kit);
    }

    /// <summary>What waits for a word at any time, also while a run stands part-way; null when nothing does.</summary>
    public static Gate? Asked(Kit kit, Words words) => IsGiven(kit, words) ? null : new Gate("", "kit", GateState.NeedsWord, Question(kit)!,
        "")
    { Package = kit.Id, Confirm = ConfirmOf(kit) };

    /// <summary>What runs a kit's commands: nothing does until the word is given.</summary>
    public static ICommands Commands(Kit kit, Words words, ICommands commands)
    {
        try { return IsGiven(kit, words) ? commands : new NotRun(kit); }
        // Words that were tampered with are told where they are needed; a survey goes on without them, and without the commands.
        catch (TransferraException) { return new NotRun(kit); }
    }

    private static TransferraException NotGiven(Kit kit) => new($"not run: nobody has given a word for what the kit {kit.Id} runs; it is "
        + "new here, or was altered", $"See what it runs: transferra kit show; then: transferra ready --confirm {ConfirmOf(kit)}");

    private sealed class NotRun(Kit kit) : ICommands
    {
        public CommandResult Run(IReadOnlyList<string> command, TimeSpan limit) => throw NotGiven(kit);
    }
}
