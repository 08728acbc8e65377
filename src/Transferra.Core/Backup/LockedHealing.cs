// LockedHealing.cs: a locked set put together again from the good chunks of its copies, each of which proves itself.
namespace Transferra.Core.Backup;

internal static class LockedHealing
{
    /// <summary>Writes the set that was once locked, as far as its copies have it.</summary>
    /// <param name="copies">As they are stored.</param>
    /// <param name="secret">The passphrase.</param>
    /// <param name="target">File that must not be there.</param>
    /// <param name="missing">What no copy has.</param>
    /// <param name="from">Copies that chunks were taken from.</param>
    /// <returns>Whether everything is there.</returns>
    /// <exception cref="SetLockedException">The passphrase is missing or wrong.</exception>
    public static bool Assemble(IReadOnlyList<SetHealing.Copy> copies, SetSecret secret, string target, out IReadOnlyList<string> missing,
        out IReadOnlyList<string> from)
    {
        (missing, from) = (["header"], []);
        if (copies.Select(copy => HeaderOf(copy.File)).FirstOrDefault(known => known is not null) is not { } header) return false;
        (string Path, LockedSetFile File)[] opened = [.. copies.Select(copy => (copy.Path, new LockedSetFile(copy.File, header, secret)))];
        // How long the set was is told by the copy whose last chunk is one that was written as the last.
        long chunks = opened.Select(copy => copy.File.Chunks).Distinct()
            .FirstOrDefault(count => count > 0 && opened.Any(copy => copy.File.StoredChunk(count - 1, count) is not null));
        if (chunks == 0)
        {
            missing = ["the last chunk"];
            return false;
        }
        var used = new HashSet<string>();
        using FileStream file = new(target, FileMode.CreateNew, FileAccess.Write);
        file.Write(header.Raw);
        for (long chunk = 0; chunk < chunks; chunk++)
        {
            byte[]? stored = null;
            foreach ((string path, LockedSetFile copy) in opened)
            {
                stored = copy.StoredChunk(chunk, chunks);
                if (stored is null) continue;
                used.Add(path);
                break;
            }
            if (stored is null)
            {
                missing = [FormattableString.Invariant($"chunk {chunk + 1} of {chunks}")];
                return false;
            }
            file.Write(stored);
        }
        (missing, from) = ([], [.. copies.Select(copy => copy.Path).Where(used.Contains)]);
        return true;
    }

    private static LockedHeader? HeaderOf(ISetFile file)
    {
        try { return LockedHeader.IsAt(file) ? LockedHeader.Read(file) : null; }
        catch (InvalidDataException) { return null; }
    }
}
