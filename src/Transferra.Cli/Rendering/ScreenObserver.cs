// ScreenObserver.cs: turns what a run reports into headings, tables and the progress line.
using Transferra.Core.Backup;
using Transferra.Core.Checks;
using Transferra.Core.Matching;
using Transferra.Core.Mending;
using Transferra.Core.Office;
using Transferra.Core.Runs;

namespace Transferra.Cli.Rendering;

internal sealed class ScreenObserver(Screen screen, Diagnostics? diagnostics = null) : IRunObserver
{
    private string _at = "";

    private static readonly Dictionary<string, string> Titles = new()
    {
        [Stages.Check] = "check: is the old data sound?",
        [Stages.Backup] = "backup: a copy that is proved",
        [Stages.Mend] = "mend: a copy is put right",
        [Stages.Convert] = "convert: a new store beside the old one",
        [Stages.Match] = "match: are the records the same?",
        [Stages.ChangeOver] = "change-over: the new store takes the old one's place",
        [Stages.CarryFiles] = "files: what is ours goes to the new program's place",
        [Stages.CheckAgain] = "check again: is the new data sound?",
    };

    public void Progress(string table, long rows, long ofRows) => screen.Progress.Show(_at + table, rows, ofRows);

    public void Bytes(string what, long done, long of) => screen.Progress.Show(_at + what, done, of, isBytes: true);

    public void Told(string words) => screen.Look(words);

    /// <summary>Names what the progress line is about when no stage does.</summary>
    public ScreenObserver At(string what)
    {
        _at = what + "  ";
        return this;
    }

    public void Defect(string company, string stage, Exception error)
    {
        if (diagnostics?.Write($"{company} {stage}", error) is { } log)
            screen.Look($"{company}: something unexpected happened; where it arose is written down, without any value of a "
                + $"record, in {log}");
    }

    public void StageBegins(string company, string stage)
    {
        screen.Heading($"{company}  {Titles.GetValueOrDefault(stage, stage)}");
        At($"{company} {stage}");
    }

    public void StageEnds(string company, string stage, string state, string summary, object? result)
    {
        switch (result)
        {
            case CheckResult check: Results.Check(screen, check); break;
            case IReadOnlyList<BackupResult> sets: Results.Backups(screen, sets); break;
            case MendResult mended: Results.Mending(screen, mended); break;
            case ConvertResult converted: Results.Conversion(screen, converted); break;
            case WayMatched matched: Results.Match(screen, company, matched); break;
            default:
                if (state == "done") screen.Good(char.ToUpperInvariant(summary[0]) + summary[1..] + ".");
                else if (state == "taken-back") screen.Line($"{company}: taken back: {summary}.");
                break;
        }
        if (state != "stopped") return;
        screen.Bad($"{company} stops here and is not changed over, because:");
        foreach (string reason in summary.Split('\n')) screen.Line($"  - {reason}");
    }
}
