// KitRuns.cs: what a kit has run on the office's machine beside its maps: programs, commands and the vendor's scripts. Whoever wrote the
// kit decides that, so it is shown before anybody's word lets it.
// Holds: (1) the digest changes when anything that is run changes: a command, a script, or a file of the kit beside its descriptions.
using System.Security.Cryptography;
using System.Text;
using Transferra.Core.Machine;

namespace Transferra.Core.Kits;

/// <summary>Something a kit has run.</summary>
/// <param name="For">What for, such as "5 to 6" or "the program's version".</param>
/// <param name="What">The program or script.</param>
public sealed record KitRun(string For, string What);

/// <summary>Tells what kits run.</summary>
public static class KitRuns
{
    /// <summary>What a kit has run; none when it only has maps, and queries that only read.</summary>
    public static IReadOnlyList<KitRun> Of(Kit kit) =>
    [
        .. Commands("the program's version", kit.ProgramEvidence),
        .. kit.Components.SelectMany(component => Commands($"the version of {component.Name}", component.Places)),
        .. kit.Settings.SelectMany(setting => Commands($"the setting {setting.Name}", setting.Place is null ? [] : [setting.Place])),
        .. kit.Hops.SelectMany(hop => hop.Means.Runs.Select(what => new KitRun($"{hop.From.Name} to {hop.To.Name}", what))),
    ];

    private static IEnumerable<KitRun> Commands(string what, IEnumerable<Evidence> places) => places.Where(place => place.File is null)
        .Select(place => new KitRun(what, $"the command {SystemCommands.Shown(place.Command)}"));

    /// <summary>Queries of its totals and signs; they run in a transaction that can only read.</summary>
    public static int Queries(Kit kit) => kit.Versions.Sum(version => version.Evidence.Count(sign => sign.Sql is not null)
        + version.ControlTotals.Sum(total => total.SqlByEngine.Count));

    /// <summary>Stands for all that a kit runs: 64 hexadecimal digits.</summary>
    public static string DigestOf(Kit kit)
    {
        using var digest = IncrementalHash.CreateHash(HashAlgorithmName.SHA256);
        foreach (KitRun run in Of(kit)) digest.AppendData(Encoding.UTF8.GetBytes($"{run.For}\0{run.What}\0"));
        foreach (string path in Files(kit.Folder))
        {
            string name = Path.GetRelativePath(kit.Folder, path);
            if (KitSeal.IsOfSeal(name) || name.EndsWith(".yaml", StringComparison.Ordinal)) continue;
            digest.AppendData(Encoding.UTF8.GetBytes($"{name}\0{DigestOf(path)}\0"));
        }
        return Convert.ToHexStringLower(digest.GetHashAndReset());
    }

    /// <summary>The SHA-256 of a file; what it is instead where it is none that can be read, and is waited for never.</summary>
    internal static string DigestOf(string path)
    {
        try
        {
            using FileStream file = PlainFile.Open(path);
            return Convert.ToHexStringLower(SHA256.HashData(file));
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException) { return "not to be read"; }
    }

    /// <summary>The files of a kit, by full path, in the order of their names.</summary>
    internal static IEnumerable<string> Files(string folder) => !Directory.Exists(folder) ? [] : Directory.EnumerateFiles(folder, "*",
        new EnumerationOptions { RecurseSubdirectories = true, AttributesToSkip = 0 })
        .Order(StringComparer.Ordinal);
}
