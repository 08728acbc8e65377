// StorePlaces.cs: stores as wholes, wherever they are: there or not, renamed, removed, known again, held open.
// Why one door: a run does the same with a file, a folder and a database on a server, and must not know which of them it has before it.
// Holds: (1) Rename never overwrites, and is on the disk when it returns; (2) DigestOf changes when any record, table or column does, also
// one that still lies beside the file; (3) what an engine keeps beside a file moves with it and never comes to lie beside another;
// (4) whoever has left a database does not count as being in it.
using System.Diagnostics;
using System.Security.Cryptography;
using System.Text;
using Transferra.Core.Machine;
using Transferra.Core.Records;

namespace Transferra.Core.Office;

/// <summary>What a run does to stores as wholes.</summary>
/// <param name="stores">For those on servers.</param>
/// <param name="volume">For those in files.</param>
public sealed class StorePlaces(IStoreOpener stores, IVolume volume)
{
    private readonly KnownDigests _digests = new(stores);

    /// <summary>Whether a store is there.</summary>
    public bool Exists(StoreAddress address) => address.IsOnServer ? stores.ServerOf(address).Exists(address.Path)
        : volume.Exists(address.Path);

    /// <summary>Gives a store another name on the same volume or server.</summary>
    public void Rename(StoreAddress from, StoreAddress to)
    {
        if (from.IsOnServer)
        {
            stores.ServerOf(from).Rename(from.Path, to.Path);
            return;
        }
        volume.CreateFolder(to.Folder);
        MoveBeside(from, to);
        volume.Rename(from.Path, to.Path);
        volume.FlushFolder(to.Folder);
        volume.FlushFolder(from.Folder);
    }

    // What SQLite keeps beside a file is part of it: committed changes, or what takes back one that was interrupted. Beside another file
    // it would be played into that.
    private void MoveBeside(StoreAddress from, StoreAddress to)
    {
        foreach (string ending in from.EndingsKept.Where(ending => volume.Exists(from.Path + ending)))
            volume.Rename(from.Path + ending, to.Path + ending);
    }

    /// <summary>Brings what lies beside a file back to it, where a rename was interrupted between the two.</summary>
    /// <param name="from">One of the two places.</param>
    /// <param name="to">The other.</param>
    public void SettleBeside(StoreAddress from, StoreAddress to)
    {
        if (from.EndingsKept.Count == 0 || volume.Exists(from.Path) == volume.Exists(to.Path)) return;
        (StoreAddress there, StoreAddress gone) = volume.Exists(from.Path) ? (from, to) : (to, from);
        foreach (string ending in from.EndingsKept.Where(ending => volume.Exists(gone.Path + ending)
            && !volume.Exists(there.Path + ending))) volume.Rename(gone.Path + ending, there.Path + ending);
    }

    /// <summary>Finishes what an interrupted rename left to do at a place.</summary>
    public void Settle(StoreAddress address)
    {
        if (address.IsOnServer) stores.ServerOf(address).Settle(address.Path);
    }

    /// <summary>Removes a store that a run made itself; fine when it is not there.</summary>
    public void Remove(StoreAddress address)
    {
        if (address.IsOnServer) stores.ServerOf(address).Remove(address.Path);
        else volume.Remove(address.Path);
    }

    /// <summary>The digest by which a run knows a store again, 64 lower-case hexadecimal digits: of files that of their bytes, on a
    /// server that of tables and records.</summary>
    /// <param name="address">Which.</param>
    /// <param name="textEncoding">The code page of its version; null for UTF-8.</param>
    /// <param name="cancel">Stops between two batches.</param>
    public string DigestOf(StoreAddress address, string? textEncoding, CancellationToken cancel) =>
        _digests.Taken(address, () => ReadDigest(address, textEncoding, cancel));

    /// <summary>The digest of a store, without reading it where this process has taken it already and the marks of its files tell that
    /// nobody wrote to them since. For where all of its bytes are looked at once more before anybody relies on it.</summary>
    /// <param name="address">Which.</param>
    /// <param name="textEncoding">The code page of its version; null for UTF-8.</param>
    /// <param name="cancel">Stops between two batches.</param>
    public string DigestByMark(StoreAddress address, string? textEncoding, CancellationToken cancel) =>
        _digests.KnownOrTaken(address, () => ReadDigest(address, textEncoding, cancel));

    private string ReadDigest(StoreAddress address, string? textEncoding, CancellationToken cancel)
    {
        if (!address.IsOnServer) return StoreDigest.Of(address);
        using IStore store = stores.Open(address, textEncoding);
        using var all = IncrementalHash.CreateHash(HashAlgorithmName.SHA256);
        foreach (TableShape table in store.ReadShape())
        {
            Fingerprint sum = default;
            var batch = new RecordBatch(table.Columns);
            var encoder = new RowEncoder(table with { Key = [] }, batch.Vectors);
            foreach (RecordBatch _ in store.Batches(table, [], cancel, batch))
            {
                for (int row = 0; row < batch.RowCount; row++) sum += Fingerprint.Of(encoder.Row(row));
                // A cell that cannot be read counts as what is there, so that a change in it is seen as well.
                foreach (RowFault fault in batch.Faults) sum += Fingerprint.Of(
                    [.. encoder.Row(fault.Row), .. Encoding.UTF8.GetBytes($"\0{fault.Column}\0{fault.Value}")]);
            }
            string columns = string.Join('\0', table.Columns.Select(column => $"{column.Name}\0{column.Type}"));
            all.AppendData(Encoding.UTF8.GetBytes($"{table.Name}\0{columns}\0{sum.Rows}\0{sum}\n"));
        }
        return Convert.ToHexStringLower(all.GetHashAndReset());
    }

    // A server lists a session for a moment after its connection was closed.
    private static readonly TimeSpan _leaving = TimeSpan.FromSeconds(1), _beat = TimeSpan.FromMilliseconds(20);

    /// <summary>Who has a store open apart from this process, in words; on a server, who still has after a second.</summary>
    public IReadOnlyList<string> OpenedBy(StoreAddress address)
    {
        long began = Stopwatch.GetTimestamp();
        IReadOnlyList<string> holders = OpenedBy(stores, address);
        while (address.IsOnServer && holders.Count > 0 && Stopwatch.GetElapsedTime(began) < _leaving)
        {
            Thread.Sleep(_beat);
            holders = OpenedBy(stores, address);
        }
        return holders;
    }

    internal static IReadOnlyList<string> OpenedBy(IStoreOpener stores, StoreAddress address) => address.IsOnServer
        ? stores.ServerOf(address).ConnectedTo(address.Path)
        : [.. OpenFiles.HoldersOf(stores.FilesOf(address))
            .Select(holder => FormattableString.Invariant($"{holder.Program} (process {holder.ProcessId})"))];
}
