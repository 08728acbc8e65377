// StoreClashes.cs: no two companies share a store, or overlap: each is upgraded, set aside and put back as a whole, and must
// not take another along.
// Holds: the same store is recognised whatever it is called: through links, second names, another spelling of this machine, or another
// schema of one database.
using System.Globalization;
using System.Net;
using Transferra.Core.Kits;
using Transferra.Core.Machine;
using Transferra.Core.Records;

namespace Transferra.Core.Office;

/// <summary>Looks for companies that would meet in one store.</summary>
internal sealed class StoreClashes
{
    private sealed record Named(DescribedMap Map, string Key, string Company, StoreAddress Store, string Identity);

    private sealed record NamedFolder(PlacedText Text, string Company, string Path);

    private readonly List<Named> _stores = [];
    private readonly List<NamedFolder> _documents = [];

    /// <summary>Notes a store that office.yaml names.</summary>
    public void Add(DescribedMap map, string key, string company, StoreAddress store) =>
        _stores.Add(new Named(map, key, company, store, IdentityOf(store)));

    /// <summary>Notes a document folder that office.yaml names.</summary>
    public void AddDocuments(PlacedText text, string company, string path) => _documents.Add(new NamedFolder(text, company, path));

    /// <summary>Reports every pair that would meet, with both places.</summary>
    public void Report(DescriptionErrors errors)
    {
        for (int i = 0; i < _stores.Count; i++)
        {
            Named later = _stores[i];
            foreach (Named earlier in _stores.Take(i).Where(earlier => earlier.Map != later.Map))
            {
                string other = string.Create(CultureInfo.InvariantCulture,
                    $"{earlier.Company} in line {earlier.Map.KeyText(earlier.Key).Line} ({earlier.Key})");
                if (earlier.Identity == later.Identity)
                    later.Map.Report(later.Key, later.Store.IsOnServer
                        ? $"the database {later.Store.Path} is that of {other}, too; a database is upgraded and set aside as a whole, so "
                            + "each company needs one of its own"
                        : $"the store {later.Store.Path} is that of {other}, too; each company needs a store of its own");
                else if (!later.Store.IsOnServer && !earlier.Store.IsOnServer
                    && (IsBelow(later.Store.Path, earlier.Store.Path) || IsBelow(earlier.Store.Path, later.Store.Path)))
                    later.Map.Report(later.Key, $"the store {later.Store.Path} and that of {other} overlap; the change-over "
                        + "of one would take the other along");
            }
        }
        foreach (NamedFolder folder in _documents)
            foreach (Named store in _stores.Where(store => !store.Store.IsOnServer
                && (IsBelow(store.Store.Path, folder.Path) || IsBelow(folder.Path, store.Store.Path) || store.Store.Path == folder.Path)))
                folder.Text.Report(errors, string.Create(CultureInfo.InvariantCulture,
                    $"the document folder {folder.Path} and the store of {store.Company} in line {store.Map.KeyText(store.Key).Line} "
                        + $"overlap; name the folders or files beside the store one by one"));
    }

    private static bool IsBelow(string path, string folder) => path.StartsWith(folder.TrimEnd('/') + "/", StringComparison.Ordinal);

    private static string IdentityOf(StoreAddress store)
    {
        if (store.Server is not { } server)
            // A second name of the same file, which no path shows.
            return FileIdentity.Of(store.Path) is { } file ? FormattableString.Invariant($"file {file.Device}:{file.Inode}")
                : $"file {store.Path}";
        string host = IsThisMachine(server.Host) ? "localhost" : server.Host.ToLowerInvariant();
        // Firebird's databases are files of the server's machine.
        string name = host == "localhost" && store.Path.StartsWith('/') ? FileIdentity.RealPath(store.Path) ?? store.Path : store.Path;
        return FormattableString.Invariant($"{store.Engine} {host}:{(server.Port == 0 ? UsualPort(store.Engine) : server.Port)} {name}");
    }

    private static int UsualPort(string engine) => engine switch { "postgresql" => 5432, "mariadb" => 3306, _ => 3050 };

    // A name, an address of loopback, or the folder of a socket.
    private static bool IsThisMachine(string host) => host.StartsWith('/') || string.Equals(host, "localhost",
        StringComparison.OrdinalIgnoreCase)
        || string.Equals(host, Environment.MachineName, StringComparison.OrdinalIgnoreCase)
            || (IPAddress.TryParse(host, out IPAddress? address) && IPAddress.IsLoopback(address));
}
