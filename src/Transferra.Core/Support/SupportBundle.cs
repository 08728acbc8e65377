// SupportBundle.cs: what the vendor needs to look into a company's trouble, in one .zip file, and a listing of it for the administrator
// to read first.
// Why .zip: the vendor opens it with whatever is there. What may be in it: docs/bundle.md.
// Holds: (1) values of private columns, keys and passwords are not in it; values of masked columns only as their form; (2) the listing
// names every file in it, with its
//        size and digest; (3) no file is named like a bundle before it is whole.
using System.Globalization;
using System.IO.Compression;
using System.Security.Cryptography;
using System.Text;
using System.Text.Json;
using Transferra.Core.Checks;
using Transferra.Core.Kits;
using Transferra.Core.Machine;
using Transferra.Core.Office;
using Transferra.Core.Records;
using Transferra.Core.Runs;
using Transferra.Core.Surveys;

namespace Transferra.Core.Support;

/// <summary>A file in a bundle.</summary>
/// <param name="Name">Its name there.</param>
/// <param name="Bytes">Its size.</param>
/// <param name="Sha256">Its digest.</param>
/// <param name="What">What it is, and what is masked in it.</param>
public sealed record BundledFile(string Name, long Bytes, string Sha256, string What);

/// <summary>A company's bundle.</summary>
/// <param name="Company">Whose.</param>
/// <param name="Path">The file; "" when it was only shown.</param>
/// <param name="Files">What is in it.</param>
/// <param name="NotIn">What one might look for in it and is not there.</param>
public sealed record BundleResult(string Company, string Path, IReadOnlyList<BundledFile> Files, IReadOnlyList<string> NotIn);

/// <summary>Makes support bundles.</summary>
/// <param name="office">The office.</param>
/// <param name="package">The company's package.</param>
/// <param name="company">The company.</param>
/// <param name="version">Its data version.</param>
/// <param name="tool">Version of this program.</param>
public sealed class SupportBundle(OfficeDescription office, Package package, Company company, KitVersion version, string tool)
{
    private const int MaxListed = 1000, MaxRuns = 5;
    private const long MaxLogBytes = 200 << 10;

    private readonly Masking _masking = new(version);
    private readonly List<(string Name, byte[] Content, string What)> _files = [];
    private readonly List<string> _notIn = ["records of the company, beside what findings show of them", "values of private columns",
        "licence keys and passwords", "documents"];

    /// <summary>Gathers what goes into it.</summary>
    /// <param name="survey">What was surveyed of the package.</param>
    /// <param name="check">The newest check; null when there is none.</param>
    /// <param name="store">The store, opened; null when it cannot be.</param>
    /// <param name="runs">The office's runs, newest first.</param>
    public void Gather(PackageSurvey survey, KeptCheck? check, IStore? store, IReadOnlyList<Run> runs)
    {
        CompanySurvey? of = survey.Companies.FirstOrDefault(found => found.Code == company.Code);
        Json("office.json", new JsonFacts
        {
            { "office", office.Name },
            { "contact", office.Contact },
            { "company", company.Code },
            { "companyName", company.Name },
            { "kit", company.Kit.Id },
            { "tool", tool },
            { "madeAt", DateTimeOffset.UtcNow }
        }, "who asks, and whom to answer");
        Json("versions.json", new JsonFacts
        {
            { "program", survey.ProgramVersion },
            { "programSigns", survey.ProgramSigns },
            { "data", of?.DataVersion },
            { "dataSigns", of?.Signs },
            { "wanted", company.WantedVersion },
            { "engine", of?.Engine },
            { "facts", of?.Facts },
            { "components", survey.Components },
            { "workstations", survey.Workstations },
            { "system", Environment.OSVersion.VersionString },
            { "remarks", survey.Remarks },
            { "problem", of?.Problem }
        }, "versions of program, data, engine, components and system");
        Json("settings.json", new JsonFacts
        {
            { "program", survey.Settings },
            { "company", of?.Settings },
            { "customFiles", survey.CustomFiles.Concat(of?.CustomFiles ?? []) }
        },
            "the settings that the kit names, private ones as the start of a digest; files that are not as the vendor ships them");
        if (store is not null)
            Json("shapes.json", new JsonFacts
            {
                { "found", store.ReadShape().Select(Shape) },
                { "kit", version.Tables.Select(Shape) },
                { "objects", store.ListObjects() },
                { "declarations", store.Declarations().GroupBy(thing => thing.Kind).ToDictionary(kind => kind.Key, kind => kind.Count()) },
                { "records", of?.Tables }
            }, "tables, columns, keys and indexes as they are, and as the kit has them; numbers of records");
        else _notIn.Add("the tables' shapes, as the store cannot be opened");
        if (check is null) _notIn.Add("findings, as no check was made yet");
        else Findings(check);
        foreach (Run run in runs.Where(run => run.Companies.Contains(company.Code)).Take(MaxRuns)) OfRun(run);
        Logs();
    }

    private static JsonFacts Shape(TableShape table) => new JsonFacts
    {
        { "name", table.Name },
        { "columns", table.Columns.Select(column => new JsonFacts
        {
            { "name", column.Name },
            { "type", column.Type.ToString() },
            { "required", column.Required },
            { "hidden", column.IsPrivate }
        }) },
        { "key", table.Key },
        { "relations", table.Relations },
        { "indexes", table.Indexes }
    };

    private void Json<T>(string name, T content, string what) =>
        _files.Add((name, JsonSerializer.SerializeToUtf8Bytes(content, ResultJson.Of<T>(SupportJson.Form)), what));

    private void Findings(KeptCheck check)
    {
        Json("findings.json", new JsonFacts
        {
            { "at", check.At },
            { "version", check.Result.Version },
            { "tables", check.Result.Tables },
            { "findings", check.Result.Findings.Select(Masked) },
            { "lost", check.Result.Lost }
        }, "what the check of " + check.At.ToString("yyyy-MM-dd HH:mm", CultureInfo.InvariantCulture)
            + " UTC found; values of masked columns as their form");
        foreach (Finding finding in check.Result.Findings.Where(finding => finding.List.Length > 0))
        {
            string path = Path.Combine(check.Folder, finding.List);
            if (!File.Exists(path)) continue;
            bool isMasked = _masking.IsMaskedSubject(finding.Table, finding.Subject);
            string[][] lines = [.. CsvFile.Read(path).Skip(1).Take(MaxListed + 1)];
            var text = new StringBuilder("record,value,finding\r\n");
            foreach (string[] cells in lines.Take(MaxListed))
                text.Append(CsvFile.Line([_masking.Record(finding.Table, cells[0]), isMasked ? Masking.FormOf(cells[1]) : cells[1],
                    finding.What]))
                    .Append("\r\n");
            _files.Add(("findings/" + finding.List, Encoding.UTF8.GetBytes(text.ToString()),
                $"{finding.What}{(lines.Length > MaxListed ? $"; the first {MaxListed} of {finding.Count}" : "")}"
                    + $"{(isMasked ? "; values as their form" : "")}"));
        }
    }

    private Finding Masked(Finding finding) =>
        finding with { Examples = [.. finding.Examples.Select(example => _masking.Example(finding.Table, finding.Subject, example))] };

    // The journal's lines of this company, and the exceptions. Of other companies nothing is anybody's business.
    private void OfRun(Run run)
    {
        Json($"runs/{run.Id}.json", run.Journal.Entries.Where(entry => entry.Company == company.Code || entry.Company.Length == 0)
            .Select(entry => new JsonFacts
            {
                { "at", entry.At },
                { "stage", entry.Stage },
                { "state", entry.State },
                { "facts", entry.Facts.Where(fact => !fact.Key.Contains('.', StringComparison.Ordinal)
                    || fact.Key.StartsWith(company.Code + ".", StringComparison.Ordinal)).ToDictionary() }
            }).ToArray(), $"what the {run.Kind} run {run.Id} did with this company, step by step");
        string exceptions = Path.Combine(run.Folder, company.Code, "exceptions.csv");
        if (!File.Exists(exceptions)) return;
        var text = new StringBuilder("table,key,column,for,value,reason\r\n");
        foreach (string[] cells in CsvFile.Read(exceptions).Skip(1).Take(MaxListed))
        {
            bool isMasked = cells[2].Split(", ").Any(column => _masking.IsMasked(cells[0], column));
            string reason = isMasked && cells[4].Length > 0 ? cells[5].Replace(cells[4], Masking.FormOf(cells[4]),
                StringComparison.Ordinal) : cells[5];
            text.Append(CsvFile.Line([cells[0], _masking.Record(cells[0], cells[1]), cells[2], cells[3],
                isMasked ? Masking.FormOf(cells[4]) : cells[4], reason])).Append("\r\n");
        }
        _files.Add(($"runs/{run.Id}-exceptions.csv", Encoding.UTF8.GetBytes(text.ToString()),
            "records that could not be converted; values of masked columns as their form"));
    }

    // The program's own logs, as far as the kit names them: their last part, without what looks like people's own.
    private void Logs()
    {
        if (package.ProgramFolder is null) return;
        foreach (string pattern in company.Kit.Logs)
        {
            string folder = Path.Combine(package.ProgramFolder, Path.GetDirectoryName(pattern) ?? "");
            if (!Directory.Exists(folder)) continue;
            foreach (string path in Directory.EnumerateFiles(folder, Path.GetFileName(pattern)).Order(StringComparer.Ordinal))
            {
                try
                {
                    using FileStream file = PlainFile.Open(path);
                    bool isCut = file.Length > MaxLogBytes;
                    if (isCut) file.Position = file.Length - MaxLogBytes;
                    using var reader = new StreamReader(file, Encoding.UTF8);
                    if (isCut) reader.ReadLine(); // the rest of a line
                    var text = new StringBuilder();
                    while (reader.ReadLine() is { } line) text.AppendLine(Masking.LogLine(line));
                    _files.Add(("logs/" + Path.GetFileName(path), Encoding.UTF8.GetBytes(text.ToString()),
                        $"{(isCut ? "the last part of " : "")}{path}; mail addresses, long numbers and what stands behind words like "
                            + "password are masked: read it before you send it"));
                }
                catch (Exception error) when (error is IOException or UnauthorizedAccessException)
                {
                    _notIn.Add($"{path}, which cannot be read: {error.Message}");
                }
            }
        }
    }

    /// <summary>What is in it.</summary>
    public IReadOnlyList<BundledFile> Files =>
        [.. _files.Select(file => new BundledFile(file.Name, file.Content.Length, Convert.ToHexStringLower(SHA256.HashData(file.Content)),
            file.What))];

    /// <summary>What one might look for in it and is not there.</summary>
    public IReadOnlyList<string> NotIn => _notIn;

    /// <summary>Writes it.</summary>
    /// <param name="path">A .zip file that is not there yet.</param>
    /// <param name="volume">The disk.</param>
    public void Write(string path, IVolume volume)
    {
        using var content = new MemoryStream();
        using (var zip = new ZipArchive(content, ZipArchiveMode.Create, leaveOpen: true))
        {
            Add(zip, "contents.txt", Encoding.UTF8.GetBytes(Listing()));
            foreach ((string name, byte[] bytes, string _) in _files) Add(zip, name, bytes);
        }
        string part = path + ".part";
        volume.Remove(part);
        volume.WriteNew(part, content.ToArray());
        volume.SetMode(part, UnixFileMode.UserRead | UnixFileMode.UserWrite);
        volume.Rename(part, path);
        volume.FlushFolder(Path.GetDirectoryName(path)!);
    }

    private string Listing()
    {
        var text = new StringBuilder();
        text.AppendLine(CultureInfo.InvariantCulture, $"Support bundle of {company.Code}, {company.Name}, at {office.Name}").AppendLine();
        foreach (BundledFile file in Files) text.AppendLine(CultureInfo.InvariantCulture,
            $"{file.Name}  {file.Bytes} bytes  sha256 {file.Sha256}").AppendLine("    " + file.What);
        text.AppendLine().AppendLine("Not in it:");
        foreach (string missing in _notIn) text.AppendLine("    " + missing);
        return text.ToString();
    }

    private static void Add(ZipArchive zip, string name, byte[] bytes)
    {
        using Stream entry = zip.CreateEntry(name, CompressionLevel.Optimal).Open();
        entry.Write(bytes);
    }
}
