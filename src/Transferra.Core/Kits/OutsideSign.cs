// OutsideSign.cs: a version that its folder or file name tells, or a file beside the store. It counts only for the company's own place, and
// only where nothing in the store itself tells a version: after a change-over, what lies around the new store is still the old one's.
// Holds: (1) a sign in the store goes before one around it.
using System.Text.RegularExpressions;
using Transferra.Core.Machine;
using Transferra.Core.Records;

namespace Transferra.Core.Kits;

/// <summary>A sign around a store.</summary>
/// <param name="Path">What the store's path is like, with a group "version"; null when a file tells.</param>
/// <param name="File">A file in the store's folder; null when the path tells.</param>
public sealed record OutsideSign(Regex? Path, Evidence? File)
{
    /// <summary>Where it was looked, in words.</summary>
    public string Where => Path is not null ? $"the path of the store, by {Path}" : $"{File!.Where}, beside the store";

    /// <summary>What it says; null when it says nothing.</summary>
    /// <param name="store">Where the store is.</param>
    public string? SaidOf(StoreAddress store)
    {
        if (Path is not null)
        {
            try { return Path.Match(store.Path) is { Success: true } match ? match.Groups["version"].Value : null; }
            catch (RegexMatchTimeoutException) { return null; }
        }
        if (store.IsOnServer) return null;
        string folder = Directory.Exists(store.Path) ? store.Path : System.IO.Path.GetDirectoryName(store.Path) ?? "/";
        return File!.Read(folder, new NoCommands()).Text;
    }

    // A sign of a version is a file; loading a kit makes sure of it.
    private sealed class NoCommands : ICommands
    {
        public CommandResult Run(IReadOnlyList<string> command, TimeSpan limit) => throw new TransferraException("a version is not told by "
            + "a command", "Name a file.");
    }

    /// <summary>Reads one; null when there is none, or when it is wrong, which is then reported.</summary>
    internal static OutsideSign? Read(DescribedMap sign, out bool isThere)
    {
        PlacedText? path = sign.Optional("path");
        bool isFile = sign.Has("file");
        isThere = path is not null || isFile;
        if (isFile) return Evidence.From(sign, "version", sign.Errors) is { } file ? new OutsideSign(null, file) : null;
        if (path is null) return null;
        try
        {
            var like = new Regex(path.Value, RegexOptions.CultureInvariant, TimeSpan.FromSeconds(1));
            if (like.GetGroupNames().Contains("version")) return new OutsideSign(like, null);
            path.Report(sign.Errors, "the pattern needs a group (?<version>...) for the version");
        }
        catch (ArgumentException error) { path.Report(sign.Errors, $"this is not a regular expression: {error.Message}"); }
        return null;
    }
}
