// TellStep.cs: the users are told that the office closes, and that it is open again.
using Transferra.Core.Machine;
using Transferra.Core.Office;

namespace Transferra.Core.Closing;

/// <summary>Users are told, by a command of the office's choosing.</summary>
internal sealed class TellStep(IReadOnlyDictionary<string, string> facts) : ClosingStep
{
    internal const string KindName = "tell";
    private static readonly TimeSpan Limit = TimeSpan.FromMinutes(1);

    /// <param name="command">Program and arguments with "{message}".</param>
    /// <param name="closing">What is said first.</param>
    /// <param name="open">What is said when the office is open again.</param>
    public static TellStep Of(IReadOnlyList<string> command, string closing, string open) =>
        new(new Dictionary<string, string> { ["command"] = List(command), ["closing"] = closing, ["open"] = open });

    /// <inheritdoc/>
    public override string Kind => KindName;
    /// <inheritdoc/>
    public override string Name => "users";
    /// <inheritdoc/>
    public override IReadOnlyDictionary<string, string> Facts => facts;
    /// <inheritdoc/>
    public override string WhenClosed => $"users are told: {facts["closing"]}";
    /// <inheritdoc/>
    public override string WhenOpen => $"users are told: {facts["open"]}";

    /// <inheritdoc/>
    public override void Close(ClosingTools tools) => Say(tools, facts["closing"]);
    /// <inheritdoc/>
    public override string? NotClosed(ClosingTools tools) => null; // what was said is said
    /// <inheritdoc/>
    public override void Reopen(ClosingTools tools) => Say(tools, facts["open"]);
    /// <inheritdoc/>
    public override string? NotOpen(ClosingTools tools) => null;

    private void Say(ClosingTools tools, string message)
    {
        string[] command = [.. List(facts, "command").Select(part => part.Replace(ClosingPlan.WordsGoHere, message,
            StringComparison.Ordinal))];
        CommandResult said = tools.Commands.Run(command, Limit);
        if (said.ExitCode != 0)
            throw new TransferraException($"users could not be told: {SystemCommands.Shown(command)} ended with "
                + $"{said.ExitCode}{(said.Output.Length > 0 ? ": " + said.FirstLine : "")}", "Correct tell under closing in office.yaml, "
                + "or leave it out and tell them yourself.");
    }
}
