// StoreMark.cs: what tells, without reading it, that a store was not written to since.
// Why not its digest: that takes as long as a good part of what is to be spared.
// Holds: (1) any change of content, name or rights of any of its files changes the mark, once the clock of the volume has gone on since the
// one before; (2) so does any change of a record in a store on a server, by the server's own account; where it gives none,
// there is no mark.
using System.Globalization;
using Transferra.Core.Machine;
using Transferra.Core.Records;

namespace Transferra.Core.Office;

/// <summary>A store as it stands.</summary>
/// <param name="Text">Of every file its name, volume, number there, size, and the times that tell of changes; of one on a server what the
/// server tells.</param>
/// <param name="ChangedAt">When the last of the files was changed.</param>
public sealed record StoreMark(string Text, DateTimeOffset ChangedAt)
{
    // Some volumes keep times by two seconds only; of those of another machine it is not known by what clock. All others keep them by
    // fractions of which no time is a multiple but by chance, and the kernel's clock goes on at least a hundred times a second.
    private static readonly TimeSpan _coarsestClock = TimeSpan.FromSeconds(2), _kernelsClock = TimeSpan.FromMilliseconds(20);

    private const long NanosecondsOfCoarseTimes = 10_000_000;

    /// <summary>For how long two changes may have the same time.</summary>
    public TimeSpan Tick { get; private init; } = _coarsestClock;

    /// <summary>Whether all that writes to it goes through this machine, which then knows of it at once.</summary>
    public bool IsLocal { get; private init; }

    /// <summary>From when on a change cannot fall into the same tick of the volume's clock as the last one known.</summary>
    public DateTimeOffset SettledAt => ChangedAt + Tick;

    /// <summary>The mark of a store; null where it has none, or cannot be looked at.</summary>
    /// <param name="store">Which.</param>
    /// <param name="stores">For those on servers; null where it is on none.</param>
    public static StoreMark? Of(StoreAddress store, IStoreOpener? stores)
    {
        try
        {
            if (store.IsOnServer) return stores!.ServerOf(store).ChangeMark(store.Path) is { } told
                ? new StoreMark($"{store.Shown} {told}", DateTimeOffset.MinValue) : null;
            string[] files = Directory.Exists(store.Path)
                ? [store.Path, .. Directory.EnumerateFileSystemEntries(store.Path, "*", SearchOption.AllDirectories)
                    .Order(StringComparer.Ordinal)]
                // An empty file beside it comes and goes as it is opened.
                : [store.Path, .. store.EndingsKept.Where(ending => ending != StoreAddress.SharedMemoryEnding)
                    .Select(ending => store.Path + ending).Where(file => new FileInfo(file) is { Exists: true, Length: > 0 })];
            var parts = new List<string>();
            long last = 0;
            foreach (string file in files)
            {
                if (PosixFiles.Stat(PosixFiles.Bytes(file), follow: true) is not { } stat) return null;
                last = Math.Max(last, stat.ChangedNanoseconds);
                parts.Add(string.Create(CultureInfo.InvariantCulture,
                    $"{Path.GetRelativePath(store.Path, file)} {stat.Device}:{stat.Inode} {stat.Bytes} {stat.ModifiedNanoseconds} "
                        + $"{stat.ChangedNanoseconds}"));
            }
            bool isLocal = !files.Any(VolumeIdentity.IsRemote);
            return new StoreMark(string.Join('\n', parts), DateTimeOffset.UnixEpoch.AddTicks(last / TimeSpan.NanosecondsPerTick + 1))
            {
                Tick = isLocal && last % NanosecondsOfCoarseTimes != 0 ? _kernelsClock : _coarsestClock,
                IsLocal = isLocal,
            };
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException or TransferraException) { return null; }
    }
}
