// SettingsRecord.cs: what the settings that a kit names are now, for the file and to be compared after an upgrade.
// Holds: a private setting is never told; only whether it is the same can be seen, by the start of its digest.
using System.Security.Cryptography;
using System.Text;
using Transferra.Core.Kits;
using Transferra.Core.Machine;
using Transferra.Core.Office;
using Transferra.Core.Records;

namespace Transferra.Core.Surveys;

/// <summary>A setting as it is.</summary>
/// <param name="Name">As the kit calls it.</param>
/// <param name="Where">Where it is written.</param>
/// <param name="Value">What it is; null when nothing is written there.</param>
public sealed record SettingFound(string Name, string Where, string? Value);

/// <summary>Reads settings.</summary>
internal static class SettingsRecord
{
    /// <summary>The settings of an installed program.</summary>
    public static IReadOnlyList<SettingFound> OfProgram(Package package, ICommands commands) => package.ProgramFolder is null ? []
        : [.. package.Kit.Settings.Select(setting => Found(setting, Path.Combine(package.ProgramFolder, setting.Place!.Where),
            setting.Place.Read(package.ProgramFolder, commands).Text))];

    /// <summary>The settings in a company's records.</summary>
    public static IReadOnlyList<SettingFound> OfCompany(KitVersion version, IStore store) =>
        [.. version.Settings.Where(setting => setting.Record is not null).Select(setting =>
    {
        string where = $"{setting.Record!.Table.Name}.{setting.Record.Column} where {setting.Record.WhereText}";
        try
        {
            return Found(setting, where, Survey.InRecord(store, setting.Record));
        }
        catch (TransferraException)
        {
            return Found(setting, where, null); // a table that is missing is the check's to tell
        }
    })];

    private static SettingFound Found(RecordedSetting setting, string where, string? value) =>
        new(setting.Name, where, value is null || !setting.IsPrivate ? value : "private, digest "
            + Convert.ToHexStringLower(SHA256.HashData(Encoding.UTF8.GetBytes(value)))[..12]);
}
