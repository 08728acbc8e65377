// NamedPlace.cs: a store, a set or a folder named on the command line, whether or not there is an office here.
using System.Text.Json;
using Transferra.Core.Backup;
using Transferra.Core.Machine;
using Transferra.Core.Office;
using Transferra.Core.Records;
using Transferra.Core.Runs;
using Transferra.Core.Surveys;

namespace Transferra.Cli.Commands;

/// <summary>A place whose records can be read. What was unpacked for that goes when it is disposed, or with the next one.</summary>
internal sealed class NamedPlace : IDisposable
{
    private readonly Session _session;
    private PassingFolder? _unpacked;

    private NamedPlace(Session session, string shown) => (_session, Shown) = (session, shown);

    /// <summary>As a person reads it.</summary>
    public string Shown { get; private set; }

    /// <summary>The store in it.</summary>
    public BareSide Side { get; private set; } = null!;

    /// <summary>What a set says of itself; null for anything else.</summary>
    public SetManifest? Manifest { get; private set; }

    /// <summary>Finds what is at a place.</summary>
    /// <param name="session">The call.</param>
    /// <param name="place">A file, a folder, a set, or a store as office.yaml writes it.</param>
    /// <exception cref="TransferraException">Nothing whose records could be read is there.</exception>
    public static NamedPlace Of(Session session, string place)
    {
        var named = new NamedPlace(session, place);
        if (place.StartsWith('{'))
        {
            StoreAddress address = OfficeLoader.ReadPlace(place, Environment.CurrentDirectory);
            named.Shown = address.Shown;
            named.Side = new BareSide(address, [], null, Hidden(session));
        }
        else if (SetPlaces.IsNamedLikeSet(place))
        {
            try { named.Unpack(place.Contains("://", StringComparison.Ordinal) ? place : Path.GetFullPath(place)); }
            catch
            {
                named.Dispose(); // nothing of a damaged set stays
                throw;
            }
        }
        else named.Side = new BareSide(Found(Path.GetFullPath(place)), [], null, Hidden(session));
        return named;
    }

    private static StoreAddress Found(string path)
    {
        if (!Path.Exists(path)) throw new TransferraException($"{path} is not there", "Name a file, a folder or a set that is, or a store "
            + "as office.yaml writes it: '{postgresql: NAME, host: ...}'");
        // Links are followed, and are nobody else's, as in office.yaml.
        StoreAddress at(string engine) => OfficeLoader.ReadPlace($"{{{engine}: \"{JsonEncodedText.Encode(path)}\"}}", "/");
        if (File.Exists(path) && StoreFinder.IsSqlite(path)) return at("sqlite");
        string[] endings = Directory.Exists(path) ? [.. Directory.EnumerateFiles(path).Select(Path.GetExtension).OfType<string>()
            .Select(ending => ending.ToLowerInvariant()).Distinct()] : [];
        return endings.Contains(".dbf") ? at("dbf") : endings.Contains(".jsonl") ? at("json-lines")
            : throw new TransferraException($"{path} does not tell what it is", "Say it as office.yaml does: '{delimited: "
                + $"{path}, separator: \",\", ...}}'");
    }

    // What a kit of the office says is nobody's business is not shown here either.
    private static IReadOnlyList<string> Hidden(Session session) => !session.HasOffice ? [] : [.. session.Office.Packages
        .SelectMany(package => package.Kit.Versions).SelectMany(version => version.Private.Concat(version.Tables.SelectMany(table =>
            table.Columns.Where(column => column.IsPrivate).Select(column => $"{table.Name}.{column.Name}")))).Distinct()];

    // Only the records; documents stay packed.
    private void Unpack(string path)
    {
        SetPlaces sets = _session.HasOffice ? _session.Sets : _session.BareSets;
        BackupSetInfo set = sets.Read(path);
        string above = _session.Scratch;
        _session.Volume.CreateFolder(above);
        _unpacked = PassingFolder.Make(_session.Volume, above, ".transferra-unpacked-");
        using (ISetFile file = sets.OpenWhole(path, above, (done, total) => _session.Screen.Progress.Show("fetching", done, total,
            isBytes: true), _session.Cancel))
        {
            IReadOnlyList<SetFault> faults = BackupSets.Unpack(file, _unpacked.Path,
                name => name.StartsWith("store/", StringComparison.Ordinal),
                (done, total) => _session.Screen.Progress.Show("unpacking", done, total, isBytes: true), cancel: _session.Cancel);
            if (faults is [var fault, ..])
                throw new TransferraException($"the set {path} is damaged: {fault.Member}: {fault.What}",
                    "Use another set, or heal it: transferra sets --heal");
        }
        Manifest = set.Manifest;
        StoreAddress address = StoreExport.Unpacked(set.Manifest.Store, _unpacked.Path);
        using (IStore store = _session.Stores.Open(address, set.Manifest.Store.TextEncoding))
            Side = new BareSide(address, StoreAddress.ServerEngines.Contains(set.Manifest.Store.Engine)
                ? set.Manifest.ShapesOf(store, null) : [], set.Manifest.Store.TextEncoding, Hidden(_session));
        Shown = $"{path} ({set.Manifest.Label.Company} of {set.Manifest.Label.MadeAt:yyyy-MM-dd HH:mm} UTC)";
    }

    /// <inheritdoc/>
    public void Dispose()
    {
        _unpacked?.Dispose();
        _unpacked = null;
    }
}
