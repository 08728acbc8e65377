// JournalWatch.cs: a disk that looks, before each operation beside an office's data, whether the journal has announced it.
// What it knows of journals is what docs/journal.md says, read from the disk: not what the program believes to have written.
using System.Text.Json;
using Transferra.Core.Machine;

namespace Transferra.Tests;

/// <summary>Watches the folders in which an office keeps its stores.</summary>
/// <param name="inner">The disk.</param>
/// <param name="office">The office's folder.</param>
/// <param name="roots">Full paths of the watched folders.</param>
internal sealed class JournalWatch(IVolume inner, string office, IReadOnlyList<string> roots) : IVolume
{
    private const string RunPrefix = "transferra-", RunBegins = "transferra-2", ShutMark = ".transferra-shut-";

    private static readonly string[] Open = ["announced", "taking-back"];

    /// <summary>What was done without having been announced, in words.</summary>
    public List<string> Violations { get; } = [];

    private void Look(string operation, params ReadOnlySpan<string> paths)
    {
        foreach (string path in paths)
        {
            if (roots.FirstOrDefault(root => path.StartsWith(root + "/", StringComparison.Ordinal)) is not { } root) continue;
            string? work = path[(root.Length + 1)..].Split('/')
                .FirstOrDefault(part => part.StartsWith(RunBegins, StringComparison.Ordinal));
            if (Path.GetFileName(path).StartsWith(ShutMark, StringComparison.Ordinal)) Expect("closings", null, operation, path);
            else if (work is not null) Expect("runs", work, operation, path);
            else if (operation is "rename" or "remove") Expect("runs", "", operation, path);
        }
    }

    // The last line of the newest journal, or of the one whose work folder this is, must be of something that is being done.
    private void Expect(string kind, string? work, string operation, string path)
    {
        string folder = Path.Combine(office, "transferra", kind);
        string? of = !Directory.Exists(folder) ? null : Directory.GetDirectories(folder).Where(run => string.IsNullOrEmpty(work)
            || work.StartsWith(RunPrefix + Path.GetFileName(run) + "-", StringComparison.Ordinal))
                .MaxBy(run => File.GetLastWriteTimeUtc(Path.Combine(run, "journal.jsonl")));
        string? last = of is null || !File.Exists(Path.Combine(of, "journal.jsonl")) ? null
            : File.ReadLines(Path.Combine(of, "journal.jsonl")).LastOrDefault();
        if (last is null) Violations.Add($"{operation} {path}: there is no journal that could have announced it");
        else
        {
            using JsonDocument line = JsonDocument.Parse(last);
            string company = line.RootElement.GetProperty("company").GetString()!, state = line.RootElement.GetProperty("state")
                .GetString()!;
            bool isOfCompany = string.IsNullOrEmpty(work) || work.EndsWith("-" + company, StringComparison.Ordinal);
            if (!Open.Contains(state) || !isOfCompany) Violations.Add($"{operation} {path}: the journal's last line is {last}");
        }
    }

    public bool Exists(string path) => inner.Exists(path);

    public void CreateFolder(string path)
    {
        Look("create", path);
        inner.CreateFolder(path);
    }

    public void MakeFolder(string path)
    {
        Look("make", path);
        inner.MakeFolder(path);
    }

    public void Rename(string from, string to)
    {
        Look("rename", from, to);
        inner.Rename(from, to);
    }

    public void Remove(string path)
    {
        if (inner.Exists(path)) Look("remove", path);
        inner.Remove(path);
    }

    public bool RemoveEmptyFolder(string path)
    {
        Look("remove-empty", path);
        return inner.RemoveEmptyFolder(path);
    }

    public void WriteNew(string path, ReadOnlySpan<byte> content)
    {
        Look("write", path);
        inner.WriteNew(path, content);
    }

    public void Replace(string path, ReadOnlySpan<byte> content)
    {
        Look("replace", path);
        inner.Replace(path, content);
    }

    public void ReplaceWith(string path, string source)
    {
        Look("replace", path);
        inner.ReplaceWith(path, source);
    }

    public void Append(string path, ReadOnlySpan<byte> content) => inner.Append(path, content);
    public void TryWriting(string folder) => inner.TryWriting(folder);
    public double TryRate(string folder) => inner.TryRate(folder);
    public void SetMode(string path, UnixFileMode mode) => inner.SetMode(path, mode);
    public void SetOwner(string path, uint user, uint group) => inner.SetOwner(path, user, group);
    public void SetOwner(string path, string like) => inner.SetOwner(path, like);
    public void FlushFile(string path) => inner.FlushFile(path);
    public void FlushFolder(string path) => inner.FlushFolder(path);
}
