// Leftovers.cs: what an interrupted backup left behind: half-packed sets, unpacked proofs, trials on a server. The next backup clears it;
// so does taking a run back.
using Transferra.Core.Checks;
using Transferra.Core.Machine;
using Transferra.Core.Office;

namespace Transferra.Core.Backup;

/// <summary>Clears leftovers.</summary>
internal static class Leftovers
{
    /// <summary>Removes what earlier work of this office for some companies left, wherever it can be reached; nothing else is at work in
    /// it.</summary>
    /// <param name="context">What it works with.</param>
    /// <param name="companies">Codes of the companies.</param>
    /// <returns>What could not be removed, a line each.</returns>
    public static IReadOnlyList<string> Clear(BackupContext context, IReadOnlyList<string> companies)
    {
        var left = new List<string>();
        string scratch = CompanyBackup.Scratch(context.Office);
        foreach (ISetPlace place in context.Sets.Places) Try(place.Name, () => BackupSets.ClearLeftovers(place, context.Identity));
        if (Directory.Exists(scratch)) Try(scratch, () => ClearScratch(context, scratch, companies));
        foreach (Company company in context.Office.Companies.Where(company => companies.Contains(company.Code)))
            if (ScratchDatabase.LeftBy(context, company) is { } trial) Try(trial.Shown, () => context.Stores.ServerOf(trial)
                .Remove(trial.Path));
        return left;

        void Try(string where, Action action)
        {
            try { action(); }
            catch (Exception error) when (error is IOException or UnauthorizedAccessException
                or TransferraException)
            { left.Add($"{where}: {error.Message}"); }
        }
    }

    private static void ClearScratch(BackupContext context, string scratch, IReadOnlyList<string> companies)
    {
        BackupSets.ClearLeftovers(new LocalPlace(scratch, context.Volume), context.Identity);
        foreach (string entry in Directory.EnumerateFileSystemEntries(scratch).ToArray())
            if (companies.Any(company => Path.GetFileName(entry) == company + CompanyBackup.InUse || Path.GetFileName(entry)
                .StartsWith(company + TrialScratch.FolderPart, StringComparison.Ordinal)))
                context.Volume.Remove(entry);
    }
}
