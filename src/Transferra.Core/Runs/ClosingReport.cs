// ClosingReport.cs: how long the office was closed for a run, and what was shut, for the sign-off. Reads only.
using Transferra.Core.Closing;
using Transferra.Core.Machine;

namespace Transferra.Core.Runs;

/// <summary>A closing as it went.</summary>
/// <param name="Closing">Its name.</param>
/// <param name="BegunAt">When users were told and doors shut.</param>
/// <param name="ClosedAt">When it was proved that everybody is out; null when it was not.</param>
/// <param name="OpenAt">When everything was as before; null while it is not.</param>
/// <param name="Steps">What was shut or stopped, in words.</param>
public sealed record ClosingReport(string Closing, DateTimeOffset BegunAt, DateTimeOffset? ClosedAt, DateTimeOffset? OpenAt,
    IReadOnlyList<string> Steps)
{
    /// <summary>Reads a closing's journal; null when it is gone.</summary>
    public static ClosingReport? Of(string officeFolder, string closing)
    {
        if (new Closings(officeFolder, new DiskVolume()).Find(closing) is not { BegunAt: { } begun } closed) return null;
        // Proved anew when a run goes on; when it was proved first is when everybody was out.
        IEnumerable<JournalEntry> entries(string state) => closed.Journal.Entries.Where(entry => entry.Stage == OfficeClosed.Stage
            && entry.State == state);
        return new ClosingReport(closing, begun, entries("closed").FirstOrDefault()?.At, entries("reopened").LastOrDefault()?.At,
            [.. closed.Journal.Entries.Where(entry => entry.State == "announced" && entry.Stage != OfficeClosed.Stage)
                .DistinctBy(entry => entry.Stage)
                .Select(entry => ClosingStep.From(entry.Stage, entry.Facts).WhenClosed)]);
    }
}
