// TempFolder.cs: a folder of its own for each test, removed afterwards.
using System.Diagnostics;
using System.Security.Cryptography;

namespace Transferra.Tests;

internal sealed class TempFolder : IDisposable
{
    public TempFolder() => Path = Directory.CreateTempSubdirectory("transferra-test-").FullName;

    public string Path { get; }

    public string this[string relative] => System.IO.Path.Combine(Path, relative);

    public string Write(string relative, string text)
    {
        string path = this[relative];
        Directory.CreateDirectory(System.IO.Path.GetDirectoryName(path)!);
        File.WriteAllText(path, text);
        return path;
    }

    /// <summary>Relative name and digest of every file below a folder, and the name of every folder.</summary>
    public static IReadOnlyDictionary<string, string> Signature(string folder) => new SortedDictionary<string, string>(
        Directory.EnumerateFileSystemEntries(folder, "*", SearchOption.AllDirectories)
            .ToDictionary(path => System.IO.Path.GetRelativePath(folder, path),
            path => Directory.Exists(path) ? "folder" : Convert.ToHexStringLower(SHA256.HashData(File.ReadAllBytes(path)))),
                StringComparer.Ordinal);

    /// <summary>Where the project lies.</summary>
    public static string Repository { get; } = FolderOf();

    private static string FolderOf([System.Runtime.CompilerServices.CallerFilePath] string file = "") =>
        System.IO.Path.GetFullPath(System.IO.Path.Combine(System.IO.Path.GetDirectoryName(file)!, "../.."));

    /// <summary>What commands of other people's tools say, in a folder; they have to go through.</summary>
    public static string Shell(string folder, string command)
    {
        using Process shell = Process.Start(new ProcessStartInfo("bash", ["-c", "set -e; " + command])
        {
            WorkingDirectory = folder,
            RedirectStandardOutput = true,
            RedirectStandardError = true
        })!;
        Task<string> complained = shell.StandardError.ReadToEndAsync();
        string said = shell.StandardOutput.ReadToEnd();
        shell.WaitForExit();
        Assert.True(shell.ExitCode == 0, $"{command}: {said} {complained.Result}");
        return said;
    }

    public static void Copy(string from, string to)
    {
        foreach (string folder in Directory.EnumerateDirectories(from, "*", SearchOption.AllDirectories).Prepend(from))
            Directory.CreateDirectory(System.IO.Path.Combine(to, System.IO.Path.GetRelativePath(from, folder)));
        foreach (string file in Directory.EnumerateFiles(from, "*", SearchOption.AllDirectories))
            File.Copy(file, System.IO.Path.Combine(to, System.IO.Path.GetRelativePath(from, file)));
    }

    public void Dispose()
    {
        try { Directory.Delete(Path, recursive: true); }
        catch (IOException)
        {
            // Names that are not text cannot be removed from here; and a process that was killed may still be letting go of it.
            using Process remove = Process.Start("rm", ["-rf", Path]);
            remove.WaitForExit();
        }
    }
}
