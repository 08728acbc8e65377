// ClosingStep.cs: one thing that closing an office changes. What was found before is in its facts, and the facts are in the journal, so
// that it can be taken back by another process, after a crash or a reboot, even when office.yaml has changed since.
// Holds: (1) Close and Reopen can be called again at any time; (2) Reopen brings back what Facts say was found, and nothing else;
//        (3) no fact is a password.
using System.Globalization;
using System.Text.Json;
using Transferra.Core.Machine;
using Transferra.Core.Records;

namespace Transferra.Core.Closing;

/// <summary>What steps work with.</summary>
/// <param name="Volume">The disk.</param>
/// <param name="Stores">Servers.</param>
/// <param name="Commands">Programs.</param>
/// <param name="Cancel">Ctrl-C.</param>
public sealed record ClosingTools(IVolume Volume, IStoreOpener Stores, ICommands Commands, CancellationToken Cancel)
{
    /// <summary>What runs the commands of a kit; the same as runs the office's own where nothing else is said.</summary>
    public Func<Kits.Kit, ICommands>? CommandsOfKit { get; init; }

    /// <summary>The same tools for what a kit says.</summary>
    public ClosingTools Of(Kits.Kit kit) => this with { Commands = CommandsOfKit?.Invoke(kit) ?? Commands };
}

/// <summary>One thing that is changed.</summary>
public abstract class ClosingStep
{
    /// <summary>The kind, as it stands in journals.</summary>
    public abstract string Kind { get; }

    /// <summary>What it is about, unique within its kind.</summary>
    public abstract string Name { get; }

    /// <summary>Kind and name: the stage in the journal.</summary>
    public string Key => $"{Kind} {Name}";

    /// <summary>Everything that is needed to take it back.</summary>
    public abstract IReadOnlyDictionary<string, string> Facts { get; }

    /// <summary>What closing does, in words.</summary>
    public abstract string WhenClosed { get; }

    /// <summary>What reopening does, in words.</summary>
    public abstract string WhenOpen { get; }

    /// <summary>Changes it.</summary>
    public abstract void Close(ClosingTools tools);

    /// <summary>Null when it is closed; otherwise what it is instead.</summary>
    public abstract string? NotClosed(ClosingTools tools);

    /// <summary>Changes it back.</summary>
    public abstract void Reopen(ClosingTools tools);

    /// <summary>Null when it is as it was found; otherwise what it is instead.</summary>
    public abstract string? NotOpen(ClosingTools tools);

    /// <summary>A step from what the journal says of it.</summary>
    /// <exception cref="TransferraException">This version of the program does not know the kind.</exception>
    public static ClosingStep From(string key, IReadOnlyDictionary<string, string> facts) => key.Split(' ')[0] switch
    {
        TellStep.KindName => new TellStep(facts),
        FolderStep.KindName => new FolderStep(facts),
        StoreStep.KindName => new StoreStep(facts),
        CronFileStep.KindName => new CronFileStep(facts),
        UnitStep.KindName => new UnitStep(facts),
        CommandStep.KindName => new CommandStep(facts),
        FirewallStep.KindName => new FirewallStep(facts),
        _ => throw new TransferraException($"the closing's journal contains \"{key}\", which this version of Transferra does not know",
            "Use the version that closed the office."),
    };

    /// <summary>A list of texts as one fact.</summary>
    protected static string List(IEnumerable<string> texts) => JsonSerializer.Serialize(texts, ClosingJson.Default.IEnumerableString);

    /// <summary>A list of texts from a fact.</summary>
    protected static IReadOnlyList<string> List(IReadOnlyDictionary<string, string> facts, string name) =>
        facts.TryGetValue(name, out string? text)
        ? JsonSerializer.Deserialize(text, ClosingJson.Default.StringArray)! : [];

    /// <summary>Whole numbers from a fact.</summary>
    protected static IReadOnlyList<int> Numbers(IReadOnlyDictionary<string, string> facts, string name) =>
        [.. List(facts, name).Select(text => int.Parse(text, CultureInfo.InvariantCulture))];
}
