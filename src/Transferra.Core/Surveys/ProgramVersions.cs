// ProgramVersions.cs: whether an installed program goes with a data version.
using Transferra.Core.Kits;
using Transferra.Core.Machine;
using Transferra.Core.Matching;
using Transferra.Core.Office;

namespace Transferra.Core.Surveys;

/// <summary>Program and data, compared.</summary>
public static class ProgramVersions
{
    /// <summary>Whether a program of this version opens data of that one; true when the kit does not say.</summary>
    public static bool Fits(string programVersion, KitVersion data) => data.Programs.Count == 0
        || data.Programs.Any(start => programVersion.StartsWith(start, StringComparison.Ordinal));

    /// <summary>Why the program that is installed will not open data of a version; null when it will, or nobody can tell.</summary>
    public static string? UnfitFor(Package package, string dataVersion, ICommands commands)
    {
        string? program = Survey.ProgramSigns(package, commands).Select(sign => sign.Version).FirstOrDefault(version =>
            version is not null);
        if (program is null || package.Kit.Version(dataVersion) is not { } data || Fits(program, data)) return null;
        return $"{package.Kit.Title} is installed as version {program}, which does not open data of version {dataVersion}: it needs "
            + $"program version {Wanted(data)}.";
    }

    /// <summary>The version of the program that is installed, where all places that tell one say the same; otherwise null.</summary>
    public static string? Installed(Package package, ICommands commands)
    {
        try { return Survey.Agreed(Survey.ProgramSigns(package, commands)); }
        catch (TransferraException) { return null; } // what cannot be asked tells nothing; survey says why
    }

    /// <summary>What tells the version of a company's program, asked once for each package: for whoever wants to know it of many
    /// companies at one moment.</summary>
    /// <param name="office">The office.</param>
    /// <param name="ask">Tells it.</param>
    public static Func<Company, string?> AtOneMoment(OfficeDescription office, Func<Company, string?> ask)
    {
        var told = new Dictionary<Package, string?>(ReferenceEqualityComparer.Instance);
        return company =>
        {
            if (office.PackageOf(company.Code) is not { } package) return null;
            if (!told.TryGetValue(package, out string? version)) told.Add(package, version = ask(company));
            return version;
        };
    }

    /// <summary>A program beside the data that it is to open.</summary>
    /// <param name="before">Its version before; null when it was not told.</param>
    /// <param name="now">Its version now.</param>
    /// <param name="data">The data version.</param>
    /// <returns>Null when nothing is known of the program.</returns>
    public static ProgramMatched? Matched(string? before, string? now, KitVersion data) => before is null && now is null ? null
        : new ProgramMatched(before, now, data.Name, Wanted(data), now is null || data.Programs.Count == 0 ? null : Fits(now, data));

    /// <summary>The program versions that go with a data version, in words.</summary>
    public static string Wanted(KitVersion data) => string.Join(" or ", data.Programs.Select(start => start + "x"));
}
