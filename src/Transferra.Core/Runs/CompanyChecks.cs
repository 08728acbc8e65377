// CompanyChecks.cs: a check of a company as it is to be made: with its documents, the way it is to go, and what its new store would take.
using System.Globalization;
using Transferra.Core.Backup;
using Transferra.Core.Checks;
using Transferra.Core.Kits;
using Transferra.Core.Office;
using Transferra.Core.Records;

namespace Transferra.Core.Runs;

/// <summary>Checks companies.</summary>
public static class CompanyChecks
{
    private static readonly TimeSpan Forgotten = TimeSpan.FromDays(1);

    /// <summary>Checks a store of a company.</summary>
    /// <param name="context">What it works with.</param>
    /// <param name="company">Whose.</param>
    /// <param name="address">The store.</param>
    /// <param name="version">Its version, as the kit has it.</param>
    /// <param name="way">What answers to what in the hops it is to go, as the kit has it; none when it goes nowhere.</param>
    /// <param name="settings">Answers to the hops' new settings.</param>
    /// <param name="listFolder">Gets a list of all records for each finding; null when none are wanted.</param>
    /// <param name="isKnownSound">Whether the engine has looked through these very bytes in this run and found nothing.</param>
    /// <param name="isCarriedAsItWas">Whether this run carried a table there exactly as it was; null where it carried nothing.</param>
    /// <param name="isBeforeBackup">Whether a backup comes next, which then need not read the records for its baseline.</param>
    public static CheckResult Run(RunContext context, Company company, StoreAddress address, KitVersion version,
        IReadOnlyList<Correspondence> way,
        IReadOnlyDictionary<string, string> settings, string? listFolder,
        bool isKnownSound = false, bool isBeforeBackup = false, Predicate<string>? isCarriedAsItWas = null)
    {
        KnownBaselines.Taking? taking = isBeforeBackup ? context.Baselines.Begin(address) : null;
        using IStore store = context.Stores.Open(address, version.TextEncoding);
        string scratch = way.Count > 1 ? MakeScratch(context, company.Code) : "";
        try
        {
            var check = new CompanyCheck(version, way.Count > 0 ? way[0] : null, settings, context.Observer, context.Cancel)
            {
                DocumentFolders = company.DocumentFolders,
                ListFolder = listFolder,
                IsKnownSound = isKnownSound,
                Beyond = [.. way.Skip(1)],
                Target = way.Count == 0 ? TrialTarget.Any
                    : new TrialTarget(context.Stores.JudgeOf(company.NewStore, way[^1].To.TextEncoding), company.NewStore.Engine,
                        company.Kit),
                Scratch = scratch.Length > 0 ? new TrialScratch(context.Stores, scratch) : null,
                TakesBaseline = isBeforeBackup,
                IsCarriedAsItWas = isCarriedAsItWas ?? (_ => false),
            };
            CheckResult result = check.Run(store);
            taking?.Keep(check.Baselines);
            return result;
        }
        finally
        {
            if (scratch.Length > 0) context.Volume.Remove(scratch);
        }
    }

    // "" where none can be made; what is not tried for that is told.
    private static string MakeScratch(RunContext context, string company)
    {
        string parent = CompanyBackup.Scratch(context.Office), prefix = company + TrialScratch.FolderPart;
        try
        {
            context.Volume.CreateFolder(parent);
            foreach (string old in Directory.EnumerateDirectories(parent, prefix + "*")
                .Where(old => DateTime.UtcNow - Directory.GetLastWriteTimeUtc(old) > Forgotten).ToArray())
                context.Volume.Remove(old);
            string folder = Path.Combine(parent,
                prefix + Convert.ToHexString(System.Security.Cryptography.RandomNumberGenerator.GetBytes(6))
                .ToLower(CultureInfo.InvariantCulture));
            context.Volume.MakeFolder(folder);
            return folder;
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException) { return ""; }
    }
}
