// BareOffice.cs: an office of one store that nobody has described, so that what needs an office and a kit can be done for it: its tables
// are as it has them, and its version is what stands in it, if anything does.
// Holds: (1) the store is only read; (2) what is people's own affair by the name of its column is not shown.
using Transferra.Core.Drafting;
using Transferra.Core.Kits;
using Transferra.Core.Machine;
using Transferra.Core.Office;
using Transferra.Core.Records;

namespace Transferra.Core.Runs;

/// <summary>An office that nobody wrote down.</summary>
/// <param name="Office">One package without a kit, with one company.</param>
/// <param name="Version">The version of its data, with the tables as they are.</param>
/// <param name="VersionTold">Where the version stands; "" when nothing was found that tells it.</param>
public sealed record BareOffice(OfficeDescription Office, KitVersion Version, string VersionTold)
{
    /// <summary>What the version is called when the store tells none.</summary>
    public const string Unknown = "unknown";

    private const int LongestCode = 40, LongestVersion = 20;

    /// <summary>Makes one.</summary>
    /// <param name="stores">Opens the store.</param>
    /// <param name="side">The store.</param>
    /// <param name="name">What it is called, such as a file's name; the company's code is made of it.</param>
    /// <param name="folder">Where sets go, and where what goes with them is kept; "" when nothing is to be written.</param>
    /// <param name="documents">Full paths of folders that belong to it.</param>
    /// <param name="cancel">Stops.</param>
    public static BareOffice Of(IStoreOpener stores, BareSide side, string name, string folder, IReadOnlyList<string> documents,
        CancellationToken cancel)
    {
        (IReadOnlyList<TableShape> tables, DraftedSign? told) = Look(stores, side, cancel);
        if (told is { Is: var says } && (says.Length > LongestVersion || !says.All(letter => char.IsAsciiLetterOrDigit(letter)
            || letter is '.' or '-'))) told = null;
        var version = new KitVersion(told?.Is ?? Unknown, [], side.TextEncoding, [], new Dictionary<string, string>(), [], [], [])
        {
            Private = side.Private,
        };
        version = version with
        {
            Tables = [.. tables.Select(table => table with
            {
                IsUndescribed = true,
                Columns = [.. table.Columns.Select(column => column with
                {
                    IsPrivate = column.IsPrivate || version.IsPrivate(table.Name, column.Name)
                        || PersonalNames.IsPersonal(table.Name, column)
                })]
            })]
        };
        var kit = Kit.None(version);
        var company = new Company(CodeOf(name), name, kit, version.Name, side.Address, null, documents, new Dictionary<string, string>());
        var office = new OfficeDescription(name, folder, [new Package(kit, null, version.Name, [company])], BackupPlan.In(folder), 0);
        return new BareOffice(office, version, told?.Because ?? "");
    }

    // What is damaged is looked at by what comes after, which says so.
    private static (IReadOnlyList<TableShape> Tables, DraftedSign? Told) Look(IStoreOpener stores, BareSide side, CancellationToken cancel)
    {
        using IStore store = stores.Open(side.Address, side.TextEncoding);
        try
        {
            IReadOnlyList<TableShape> tables = side.Tables.Count > 0 ? side.Tables : store.ReadShape();
            return (tables, VersionDraft.Told(store, side.Address.Engine, tables, cancel));
        }
        catch (TransferraException) { return ([], null); }
    }

    // As office.yaml would allow it.
    private static string CodeOf(string name)
    {
        string stem = Path.GetFileNameWithoutExtension(name.TrimEnd('/'));
        string code = string.Concat(stem.Select(letter => char.IsAsciiLetterOrDigit(letter) || letter is '-' or '_' ? letter : '-'))
            .Trim('-', '_');
        return code.Length == 0 ? "store" : code.Length > LongestCode ? code[..LongestCode] : code;
    }
}
