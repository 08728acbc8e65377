// DocumentCheck.cs: files that records point to, and files that nothing points to.
// Holds: (1) every file is read to its end; (2) memory is a few digests a file, whatever their number.
using System.IO.Hashing;
using System.Text;
using Transferra.Core.Kits;
using Transferra.Core.Machine;
using Transferra.Core.Records;

namespace Transferra.Core.Checks;

/// <summary>The document folders of a company, with what is in them.</summary>
internal sealed class DocumentCheck
{
    /// <summary>A folder: digests of its files' names, as they are and in small letters.</summary>
    private sealed record Folder(string Path, string Name)
    {
        public HashSet<ulong> Exact { get; } = [];
        public HashSet<ulong> AnyCase { get; } = [];
        public HashSet<ulong> Claimed { get; } = [];
        public bool IsPointedTo { get; set; }
    }

    private readonly List<Folder> _folders = [];
    private readonly FindingCollector _findings;

    /// <summary>Lists the folders.</summary>
    public DocumentCheck(IReadOnlyList<string> folders, FindingCollector findings)
    {
        _findings = findings;
        foreach (string path in folders.Where(Directory.Exists))
        {
            var folder = new Folder(path, Path.GetFileName(Path.TrimEndingDirectorySeparator(path)));
            using var below = new FolderFiles(path);
            foreach (FoundFile file in below.All((_, _) => { })) // told when the files are read
            {
                folder.Exact.Add(Digest(file.Shown));
                folder.AnyCase.Add(Digest(file.Shown.ToLowerInvariant()));
            }
            _folders.Add(folder);
        }
    }

    private static ulong Digest(string name) => XxHash3.HashToUInt64(Encoding.UTF8.GetBytes(name));

    /// <summary>A probe for a column that names files.</summary>
    public Probe ProbeOf(TableScan scan, FileLink link, string version) => new LinkProbe(this, scan, link, version);

    /// <summary>Reads every file, and tells of those that nothing points to.</summary>
    public void ReadFiles(IProgressObserver observer, CancellationToken cancel)
    {
        byte[] buffer = new byte[1 << 20];
        foreach (Folder folder in _folders)
        {
            var unclaimed = new FindingHead(FindingKinds.DocumentUnclaimed, Grade.Note, "", folder.Name,
                $"files in {folder.Name} that no record names",
                "Nothing: they are backed up and kept.");
            var unreadable = new FindingHead(FindingKinds.DocumentUnreadable, Grade.Fault, "", folder.Name,
                $"files in {folder.Name} that cannot be read",
                "Give the right to read them, or fetch them from an older backup.");
            long files = 0;
            using var below = new FolderFiles(folder.Path);
            foreach (FoundFile file in below.All((name, why) => _findings.Add(unreadable, name, why, $"{name}: {why}")))
            {
                cancel.ThrowIfCancellationRequested();
                if (folder.IsPointedTo && !folder.Claimed.Contains(Digest(file.Shown.ToLowerInvariant()))) _findings.Add(unclaimed,
                    file.Shown);
                // What a link leads to is read itself when it is here, and is not ours when it is not.
                if (file.IsLink)
                {
                    const string nowhere = "it is a link, and what it leads to is not there";
                    if (below.LeadsNowhere(file)) _findings.Add(unreadable, file.Shown, nowhere, $"{file.Shown}: {nowhere}");
                    continue;
                }
                try
                {
                    using Stream stream = below.Open(file);
                    while (stream.Read(buffer) > 0) cancel.ThrowIfCancellationRequested();
                }
                catch (Exception error) when (error is IOException or UnauthorizedAccessException)
                {
                    _findings.Add(unreadable, file.Shown, error.Message, $"{file.Shown}: {error.Message}");
                }
                observer.Progress("documents in " + folder.Name, ++files, folder.Exact.Count);
            }
        }
    }

    /// <summary>Looks for the file that each record names.</summary>
    private sealed class LinkProbe : Probe
    {
        private readonly DocumentCheck _documents;
        private readonly TableScan _scan;
        private readonly int _ordinal;
        private readonly Folder[] _in;
        private readonly FindingHead _missing, _misspelt;

        public LinkProbe(DocumentCheck documents, TableScan scan, FileLink link, string version)
        {
            (_documents, _scan, _ordinal) = (documents, scan, scan.Table.OrdinalOf(link.Column));
            _in = [.. documents._folders.Where(folder => link.Folder is null || string.Equals(folder.Name, link.Folder,
                StringComparison.OrdinalIgnoreCase))];
            foreach (Folder folder in _in) folder.IsPointedTo = true;
            string where = link.Folder ?? "any document folder";
            _missing = new FindingHead(FindingKinds.DocumentMissing, Grade.Warning, scan.Table.Name, link.Column,
                $"records whose {link.Column} names a file that is not in {where}",
                "Look for the files in older backups, or name their folder under documents in office.yaml.");
            _misspelt = new FindingHead(FindingKinds.DocumentMisspelt, Grade.Warning, scan.Table.Name, link.Column,
                $"records whose {link.Column} names a file in other capital or small letters than it has",
                $"Rename the files as the records of version {version} have them.");
        }

        public override void Take()
        {
            var names = (BytesVector)_scan.Batch.Vectors[_ordinal];
            for (int row = 0; row < names.Count; row++)
            {
                if (names.IsNull(row) || names[row].Trim((byte)' ').Length == 0) continue;
                string named = Encoding.UTF8.GetString(names[row]).Trim();
                bool exact = false, any = false;
                foreach (Folder folder in _in)
                    foreach (string name in NamesIn(folder, named))
                    {
                        ulong small = Digest(name.ToLowerInvariant());
                        exact |= folder.Exact.Contains(Digest(name));
                        if (!folder.AnyCase.Contains(small)) continue;
                        any = true;
                        folder.Claimed.Add(small);
                    }
                if (!exact) _documents._findings.Add(any ? _misspelt : _missing, _scan.NameOf(row), _scan.Batch.Show(row, _ordinal));
            }
        }

        // What a record says may be a path as another system writes it, with the folder in it or with the whole way to it.
        private static IEnumerable<string> NamesIn(Folder folder, string named)
        {
            string path = named.Replace('\\', '/');
            if (path.StartsWith("./", StringComparison.Ordinal)) path = path[2..];
            yield return path;
            int at = ("/" + path).LastIndexOf($"/{folder.Name}/", StringComparison.OrdinalIgnoreCase);
            if (at >= 0) yield return path[(at + folder.Name.Length + 1)..];
        }
    }
}
