// Needs.cs: what a data version needs beside its data, what belongs to a package beside its program, and what is recorded of its settings.
// Reading: NeedsLoader.cs; format: docs/kits.md.
using System.Globalization;
using System.Text.RegularExpressions;
using Transferra.Core.Machine;

namespace Transferra.Core.Kits;

/// <summary>Something that belongs to a package beside its program: an add-on, a bridge, a runtime.</summary>
/// <param name="Name">As people say it.</param>
/// <param name="Places">Where its version is written.</param>
public sealed record Component(string Name, IReadOnlyList<Evidence> Places);

/// <summary>A setting that is recorded before and after.</summary>
/// <param name="Name">As people say it.</param>
/// <param name="Place">Where it is written outside of the books; null when a record holds it.</param>
/// <param name="Record">The record that holds it; null when <paramref name="Place"/> says it.</param>
/// <param name="IsPrivate">Whether only its digest is kept and shown.</param>
public sealed record RecordedSetting(string Name, Evidence? Place, RecordSign? Record, bool IsPrivate);

/// <summary>A licence, serial number, activation or other code.</summary>
/// <param name="Name">Its name in office.yaml.</param>
/// <param name="Form">What it looks like, in full; a group "until" holds its last day as yyyyMMdd or yyyy-MM-dd. Null when any text will
/// do.</param>
/// <param name="NeedsMaintenance">Whether a maintenance contract must be in date as well.</param>
/// <param name="AskedFor">When it will be asked for, in words.</param>
public sealed record NeededKey(string Name, Regex? Form, bool NeedsMaintenance, string AskedFor);

/// <summary>A component that must have a version.</summary>
/// <param name="Name">Name of the component.</param>
/// <param name="AtLeast">Lowest version that will do.</param>
/// <param name="ComesWithInstaller">Whether the installer updates it; otherwise somebody must.</param>
public sealed record NeededComponent(string Name, string AtLeast, bool ComesWithInstaller);

/// <summary>Something that only people know.</summary>
/// <param name="Name">Short name, by which it is confirmed.</param>
/// <param name="Question">What is asked.</param>
public sealed record NeededWord(string Name, string Question);

/// <summary>What a data version needs.</summary>
/// <param name="Keys">Codes.</param>
/// <param name="InstallerList">Full path of the list of the installer's files with their SHA-256; null when the kit has none.</param>
/// <param name="Components">Components.</param>
/// <param name="Engines">Lowest version by engine.</param>
/// <param name="Systems">Lowest version by operating system, as in ID and VERSION_ID of os-release(5); empty when any will do.</param>
/// <param name="Words">What people must say.</param>
public sealed record VersionNeeds(IReadOnlyList<NeededKey> Keys, string? InstallerList, IReadOnlyList<NeededComponent> Components,
    IReadOnlyDictionary<string, string> Engines,
    IReadOnlyDictionary<string, string> Systems, IReadOnlyList<NeededWord> Words)
{
    /// <summary>Nothing.</summary>
    public static VersionNeeds None { get; } = new([], null, [], new Dictionary<string, string>(), new Dictionary<string, string>(), []);
}

/// <summary>A file as a vendor ships it.</summary>
/// <param name="Name">Relative, with "/".</param>
/// <param name="Sha256">64 lower-case hexadecimal digits.</param>
internal sealed record ShippedFile(string Name, string Sha256)
{
    /// <summary>Reads a list in the form that sha256sum(1) writes: digest, two characters, name.</summary>
    /// <exception cref="IOException">It cannot be read.</exception>
    /// <exception cref="Machine.TransferraException">A line is not of that form.</exception>
    public static IReadOnlyList<ShippedFile> ReadList(string path)
    {
        var files = new List<ShippedFile>();
        int number = 0;
        foreach (string line in PlainFile.ReadLines(path))
        {
            number++;
            if (line.Length == 0 || line[0] == '#') continue;
            if (line.Length < 67 || !line[..64].All(char.IsAsciiHexDigit) || line[64] != ' ')
                throw new Machine.TransferraException(string.Create(CultureInfo.InvariantCulture,
                    $"line {number} of {path} is not a line of a list of digests"),
                    "Make the list anew in the vendor's folder: sha256sum FILE...");
            files.Add(new ShippedFile(line[66..], line[..64].ToLowerInvariant()));
        }
        return files;
    }
}
