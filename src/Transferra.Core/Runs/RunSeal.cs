// RunSeal.cs: binds a run's sign-off, the end of its journal, its results and its sets together by digests, signed with the office's key,
// so that somebody who trusts neither us nor this program can see later that they still belong together (docs/verify-by-hand.md).
// Form: signoff.sha256 lists signoff.html, signoff.json and the results of each company; signoff.sig is its signature and office.pem the
// public key (SignedDigests.cs). signoff.json says how many lines the journal has and the digest of the last one, and the seal of each set.
// Holds: (1) nothing that is listed can be altered, nor the journal up to its sealed end, nor a set be another one, without being told;
//        (2) what is not there any more is told apart from what is altered.
using System.Security.Cryptography;
using System.Text.Json;
using System.Text.Json.Serialization;
using Transferra.Core.Machine;

namespace Transferra.Core.Runs;

/// <summary>How a part of a sign-off stands to its seal.</summary>
[JsonConverter(typeof(InWords<SealState>))]
public enum SealState
{
    /// <summary>As it was sealed.</summary>
    Holds,
    /// <summary>Not there, or not to be read, so that nobody can say.</summary>
    NotThere,
    /// <summary>Another than was sealed.</summary>
    Altered,
}

/// <summary>One part of a sign-off against its seal.</summary>
/// <param name="What">The part.</param>
/// <param name="State">How it stands.</param>
/// <param name="Words">More about it; "" when there is none.</param>
public sealed record SealCheck(string What, SealState State, string Words = "");

/// <summary>A sign-off against its seal.</summary>
/// <param name="Run">The run.</param>
/// <param name="SignedBy">Fingerprint of the key it is signed with; null when it is not signed as it is.</param>
/// <param name="Parts">Each part.</param>
public sealed record SealChecked(string Run, string? SignedBy, IReadOnlyList<SealCheck> Parts)
{
    /// <summary>The worst of them.</summary>
    public SealState State => Parts.Max(part => part.State);
}

/// <summary>Seals runs, and sees to seals.</summary>
public static class RunSeal
{
    /// <summary>Names of the files in the run's folder.</summary>
    public const string PageName = "signoff.html", ReportName = "signoff.json", ListName = "signoff.sha256", SignatureName = "signoff.sig",
        KeyName = "office.pem";

    private static readonly string[] Results = [Stages.Check, Stages.Backup, Stages.Mend, Stages.Convert, Stages.Match, MatchStage.Found,
        Stages.CheckAgain];

    /// <summary>Writes page and report into a run's folder and seals them; does nothing when they are sealed as they are.</summary>
    /// <param name="volume">The disk.</param>
    /// <param name="run">The run.</param>
    /// <param name="report">What is sealed.</param>
    /// <param name="page">The page of it.</param>
    /// <param name="key">The office's key.</param>
    public static void Write(IVolume volume, Run run, RunReport report, ReadOnlySpan<byte> page, ECDsa key)
    {
        byte[] json = JsonSerializer.SerializeToUtf8Bytes(report, RunsJson.Form.RunReport);
        var files = new SortedDictionary<string, string>(StringComparer.Ordinal)
        {
            [PageName] = Convert.ToHexStringLower(SHA256.HashData(page)),
            [ReportName] = Convert.ToHexStringLower(SHA256.HashData(json))
        };
        foreach (string name in run.Companies.SelectMany(code => Results.Select(result => $"{code}/{result}.json")))
            if (PlainFile.DigestOf(Path.Combine(run.Folder, name)) is { Length: > 0 } digest) files[name] = digest;
        byte[] list = SignedDigests.List(files);
        string at(string name) => Path.Combine(run.Folder, name);
        if (File.Exists(at(SignatureName)) && PlainFile.ReadBytes(at(ListName)).AsSpan().SequenceEqual(list)
            && Signer(run.Folder, list) == SignedDigests.FingerprintOf(key)
            && PlainFile.DigestOf(at(PageName)) == files[PageName] && PlainFile.DigestOf(at(ReportName)) == files[ReportName]) return;
        volume.Replace(at(PageName), page);
        volume.Replace(at(ReportName), json);
        volume.Replace(at(ListName), list);
        volume.Replace(at(KeyName), SignedDigests.PublicKey(key));
        volume.Replace(at(SignatureName), SignedDigests.Sign(list, key));
    }

    /// <summary>Whether all that was sealed still belongs together.</summary>
    /// <param name="run">The run.</param>
    /// <param name="officeKey">Fingerprint of the office's key; null when it is not there.</param>
    /// <param name="sealOf">The seal of a set, by its path; null when it cannot be read.</param>
    /// <param name="originalOf">The digest of a company's old store where it is kept; null when it is not.</param>
    /// <exception cref="TransferraException">The run was never sealed.</exception>
    public static SealChecked Verify(Run run, string? officeKey, Func<string, string?> sealOf,
        Func<string, string?> originalOf)
    {
        string at(string name) => Path.Combine(run.Folder, name);
        if (!File.Exists(at(ListName))) throw new TransferraException($"the sign-off of the run {run.Id} was never sealed",
            $"Write and seal it: transferra signoff --run {run.Id}");
        byte[] list = PlainFile.ReadBytes(at(ListName));
        string? signer = Signer(run.Folder, list);
        var parts = new List<SealCheck>
        {
            signer is null ? new("the signature", SealState.Altered, $"{SignatureName} is not of {ListName} and the key in {KeyName}")
                : officeKey is null ? new("the signature", SealState.Holds,
                    $"by {signer}; the office's key is not here, so compare that with the one on the recovery sheet")
                : signer == officeKey ? new("the signature", SealState.Holds, $"by the office's key {signer}")
                : new("the signature", SealState.Altered, $"by {signer}, and not by the office's key {officeKey}")
        };
        parts.AddRange(Files(run.Folder, list));
        RunReport? sealedReport = ResultJson.Load(at(ReportName), RunsJson.Form.RunReport);
        if (sealedReport is null) parts.Add(new("the journal", SealState.NotThere, $"{ReportName}, which says how far it reached, cannot "
            + "be read"));
        else parts.AddRange([OfJournal(run.Journal, sealedReport), .. sealedReport.Companies.SelectMany(company =>
            OfCompany(company, sealOf, originalOf))]);
        return new SealChecked(run.Id, signer, parts);
    }

    /// <summary>Whether a page that somebody has is the one that was sealed.</summary>
    /// <param name="run">The run.</param>
    /// <param name="path">The page.</param>
    public static SealCheck OfPage(Run run, string path)
    {
        string digest = PlainFile.DigestOf(path), what = $"the page {path}";
        IReadOnlyDictionary<string, string>? said = SignedDigests.Read(PlainFile.ReadBytes(Path.Combine(run.Folder, ListName)));
        return digest.Length == 0 ? new SealCheck(what, SealState.NotThere, "it cannot be read")
            : said?.GetValueOrDefault(PageName) == digest ? new SealCheck(what, SealState.Holds, "it is the one that was sealed")
            : new SealCheck(what, SealState.Altered, "it is not the one that was sealed");
    }

    private static string? Signer(string folder, byte[] list)
    {
        string signature = Path.Combine(folder, SignatureName), key = Path.Combine(folder, KeyName);
        return File.Exists(signature) && File.Exists(key)
            ? SignedDigests.SignerOf(list, PlainFile.ReadBytes(signature), PlainFile.ReadText(key)) : null;
    }

    private static IEnumerable<SealCheck> Files(string folder, byte[] list)
    {
        if (SignedDigests.Read(list) is not { } said)
        {
            yield return new SealCheck(ListName, SealState.Altered, "it is not a list of digests");
            yield break;
        }
        foreach ((string name, string digest) in said)
        {
            string path = Path.Combine(folder, name);
            yield return !File.Exists(path) ? new SealCheck(name, SealState.NotThere, "it is not there")
                : PlainFile.DigestOf(path) == digest ? new SealCheck(name, SealState.Holds)
                : new SealCheck(name, SealState.Altered, "it is not what was sealed");
        }
    }

    private static SealCheck OfJournal(Journal journal, RunReport sealedReport)
    {
        string what = FormattableString.Invariant($"the journal, its first {sealedReport.JournalLines} lines");
        if (journal.Damage is { } damage) return new SealCheck(what, SealState.Altered, damage.Message);
        if (journal.DigestOf(sealedReport.JournalLines) != sealedReport.JournalSha256)
            return new SealCheck(what, SealState.Altered, "they are not those that were sealed");
        int more = journal.Entries.Count - sealedReport.JournalLines;
        return new SealCheck(what, SealState.Holds, more == 0 ? "" : FormattableString.Invariant(
            $"it has gone on since, by {more} {(more == 1 ? "line" : "lines")}, the last: {journal.Entries[^1].Stage} {journal.Entries[^1]
                .State}; transferra signoff --run {sealedReport.Run} seals it anew"));
    }

    private static IEnumerable<SealCheck> OfCompany(CompanyReport company, Func<string, string?> sealOf,
        Func<string, string?> originalOf)
    {
        foreach (Backup.BackupResult set in company.Backups ?? [])
        {
            string what = $"a set of {company.Code}";
            if (set.Seal.Length == 0) yield return new SealCheck(what, SealState.NotThere, $"{set.Path}: its seal was not recorded");
            else yield return sealOf(set.Path) switch
            {
                null => new SealCheck(what, SealState.NotThere,
                    $"{set.Path}: it is not there, or cannot be read; transferra sets --prove tells which"),
                var seal when seal == set.Seal => new SealCheck(what, SealState.Holds, set.Path),
                _ => new SealCheck(what, SealState.Altered, $"{set.Path}: another set lies there")
            };
        }
        if (company.SetAside.Length == 0) yield break;
        string old = $"the old store of {company.Code}";
        yield return originalOf(company.Code) switch
        {
            null => new SealCheck(old, SealState.NotThere, $"{company.SetAside}: it is not kept any more"),
            var digest when digest == company.OldStoreSha256 => new SealCheck(old, SealState.Holds, company.SetAside),
            _ => new SealCheck(old, SealState.Altered, $"{company.SetAside}: it was changed since")
        };
    }
}
