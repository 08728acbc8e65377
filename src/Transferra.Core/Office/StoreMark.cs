// StoreMark.cs: what tells on this machine, without reading it, that a store of files was not written to since.
// Why not its digest: that takes as long as a good part of what is to be spared.
// Holds: (1) any change of content, name or rights of any of its files changes the mark, once the clock of the volume has gone on since the
// one before; (2) a store on a server has none, as other programs reach it by ways that leave no mark.
using System.Globalization;
using Transferra.Core.Machine;
using Transferra.Core.Records;

namespace Transferra.Core.Office;

/// <summary>A store of files as it stands.</summary>
/// <param name="Text">Of every file its name, volume, number there, size, and the times that tell of changes.</param>
/// <param name="ChangedAt">When the last of them was changed.</param>
internal sealed record StoreMark(string Text, DateTimeOffset ChangedAt)
{
    // Some volumes keep times by two seconds only.
    private static readonly TimeSpan _coarsestClock = TimeSpan.FromSeconds(2);

    /// <summary>From when on a change cannot fall into the same tick of the volume's clock as the last one known.</summary>
    public DateTimeOffset SettledAt => ChangedAt + _coarsestClock;

    /// <summary>The mark of a store; null where it has none, or cannot be looked at.</summary>
    public static StoreMark? Of(StoreAddress store)
    {
        if (store.IsOnServer) return null;
        try
        {
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
            return new StoreMark(string.Join('\n', parts), DateTimeOffset.UnixEpoch.AddTicks(last / TimeSpan.NanosecondsPerTick + 1));
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException) { return null; }
    }
}
