// CronFileStep.cs: a file of scheduled jobs that cron reads, put away under a name that no cron reads: one that begins with a dot
// (cron(8) takes letters, digits, "-" and "_" only; other crons leave out hidden files).
using Transferra.Core.Machine;
using Transferra.Core.Records;

namespace Transferra.Core.Closing;

/// <summary>A cron file.</summary>
internal sealed class CronFileStep(IReadOnlyDictionary<string, string> facts) : ClosingStep
{
    internal const string KindName = "cron-file";

    /// <summary>The step for a file; null when there is none, as then no job can start.</summary>
    public static CronFileStep? Of(string path) => !File.Exists(path) ? null : new(new Dictionary<string, string>
    {
        ["path"] = path,
        ["away"] = Path.Combine(Path.GetDirectoryName(path)!, $".{Path.GetFileName(path)}.{StoreAddress.RunPrefix}closed"),
    });

    /// <inheritdoc/>
    public override string Kind => KindName;
    /// <inheritdoc/>
    public override string Name => facts["path"];
    /// <inheritdoc/>
    public override IReadOnlyDictionary<string, string> Facts => facts;
    /// <inheritdoc/>
    public override string WhenClosed => $"the jobs in {Name} do not start";
    /// <inheritdoc/>
    public override string WhenOpen => $"the jobs in {Name} start again at their times";
    /// <inheritdoc/>
    public override void Close(ClosingTools tools) => Move(tools, facts["path"], facts["away"]);
    /// <inheritdoc/>
    public override string? NotClosed(ClosingTools tools) => tools.Volume.Exists(facts["path"]) ? $"{Name} is there" : null;
    /// <inheritdoc/>
    public override void Reopen(ClosingTools tools) => Move(tools, facts["away"], facts["path"]);
    /// <inheritdoc/>
    public override string? NotOpen(ClosingTools tools) => tools.Volume.Exists(facts["path"]) ? null : $"{Name} is not there";

    private static void Move(ClosingTools tools, string from, string to)
    {
        if (!tools.Volume.Exists(from)) return;
        if (tools.Volume.Exists(to))
            throw new TransferraException($"{from} cannot go back to {to}: a new file is there",
                "Somebody, or an installer, made a new one. Compare the two, keep one under that name, remove the other, then try again.");
        tools.Volume.Rename(from, to);
        tools.Volume.FlushFolder(Path.GetDirectoryName(to)!);
    }
}
