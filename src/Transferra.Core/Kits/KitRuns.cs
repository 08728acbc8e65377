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
        IReadOnlyList<KitRun> runs = Of(kit);
        foreach (KitRun run in runs) digest.AppendData(Encoding.UTF8.GetBytes($"{run.For}\0{run.What}\0"));
        foreach ((string name, string content) in KitSeal.Digests(kit.Folder))
            if (!IsDescription(name) || runs.Any(run => run.What.Contains(name, StringComparison.Ordinal)))
                digest.AppendData(Encoding.UTF8.GetBytes($"{name}\0{content}\0"));
        return Convert.ToHexStringLower(digest.GetHashAndReset());
    }

    // What of it is run is among what it runs; unless something that is run names the file itself.
    private static bool IsDescription(string name) => name == "kit.yaml" || (name.EndsWith(".yaml", StringComparison.Ordinal)
        && Path.GetDirectoryName(name) is "versions" or "hops");

    /// <summary>The files of a kit, by full path, in the order of their names.</summary>
    internal static IEnumerable<string> Files(string folder) => !Directory.Exists(folder) ? [] : Directory.EnumerateFiles(folder, "*",
        new EnumerationOptions { RecurseSubdirectories = true, AttributesToSkip = 0 })
        .Order(StringComparer.Ordinal);
}
