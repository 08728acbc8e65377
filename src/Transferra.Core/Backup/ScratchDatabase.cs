// ScratchDatabase.cs: a database that is made again from a set for a while, on a server, under a name of its own.
// Holds: (1) nothing that is on the server is touched; (2) it goes when it is disposed of; one that a kill left goes before the next is
// made, and with the next backup.
using Transferra.Core.Machine;
using Transferra.Core.Office;
using Transferra.Core.Records;

namespace Transferra.Core.Backup;

/// <summary>A set's database, made again. Removed from its server when it is disposed of.</summary>
public sealed class ScratchDatabase : IDisposable
{
    private const string Label = "proof";

    private readonly BackupContext _context;

    private ScratchDatabase(BackupContext context, StoreAddress address) => (_context, Address) = (context, address);

    /// <summary>Where it is.</summary>
    public StoreAddress Address { get; }

    /// <summary>The engine's own words that it was made of; null for sets that hold none.</summary>
    public StoreScript? Script { get; private set; }

    /// <summary>What could not be brought back beside the records, a line each.</summary>
    public IReadOnlyList<string> Remarks { get; private set; } = [];

    /// <summary>Makes it: on the server that office.yaml names for proofs, or on the company's own. Only one at a time for each company;
    /// whoever calls has the office's lock, or is a backup, which has.</summary>
    /// <param name="context">What it works with.</param>
    /// <param name="company">Whose set it is; null when that is not known.</param>
    /// <param name="manifest">The set's manifest.</param>
    /// <param name="unpacked">Folder of the unpacked export.</param>
    /// <param name="progress">Hears the records loaded; null for nobody.</param>
    /// <param name="whyNot">Why none may be made there; "" otherwise.</param>
    /// <returns>Null when none may be made.</returns>
    /// <exception cref="TransferraException">It cannot be made of what is unpacked; nothing of it is left.</exception>
    public static ScratchDatabase? TryMake(BackupContext context, Company? company, SetManifest manifest, string unpacked,
        IProgressObserver? progress, out string whyNot)
    {
        if (PlaceFor(context, company, manifest.Store.Engine, manifest.Label.Company) is not { } address)
        {
            whyNot = $"no server of the engine {manifest.Store.Engine} is known here";
            return null;
        }
        IStoreServer server = context.Stores.ServerOf(address);
        whyNot = server.Hindrances(null).FirstOrDefault("");
        if (whyNot.Length > 0) return null;
        server.Remove(address.Path);
        var made = new ScratchDatabase(context, address);
        try
        {
            List<string> remarks = [.. StoreExport.Load(unpacked, context.Stores, address, progress ?? Silent.Observer,
                context.Cancel)];
            made.Script = StoreExport.Describe(unpacked).Script;
            if (made.Script is { } script) remarks.AddRange(context.Stores.AddRights(address, script));
            made.Remarks = remarks;
            return made;
        }
        catch
        {
            made.Dispose();
            throw;
        }
    }

    /// <summary>One of a company that a kill left on its server; null when there is none.</summary>
    internal static StoreAddress? LeftBy(BackupContext context, Company company)
    {
        StoreAddress now = company.StoreNow(context.Places);
        return now.IsOnServer && PlaceFor(context, company, now.Engine, company.Code) is { } address
            && context.Stores.ServerOf(address).Exists(address.Path) ? address : null;
    }

    // Firebird's databases are files in a folder of the server's; the others have names.
    private static StoreAddress? PlaceFor(BackupContext context, Company? company, string engine, string code) =>
        ServerFor(context.Office, company, engine)?.Beside("", context.Identity.Short, $"{Label}-{code}");

    /// <summary>The address of a store beside which they are made; null when no server of the engine is known.</summary>
    /// <param name="office">The office.</param>
    /// <param name="company">Whose sets they are.</param>
    /// <param name="engine">The set's engine.</param>
    public static StoreAddress? ServerFor(OfficeDescription office, Company? company, string engine) =>
        office.Backup.ProveOn.FirstOrDefault(server => server.Engine == engine)
        ?? ((StoreAddress?[])[company?.OldStore, company?.MovesTo]).FirstOrDefault(store => store?.Engine == engine && store.IsOnServer);

    /// <inheritdoc/>
    public void Dispose() => _context.Stores.ServerOf(Address).Remove(Address.Path);
}
