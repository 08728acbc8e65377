// OpenedKit.cs: a kit named on the command line, as a folder or packed.
using Transferra.Core.Kits;
using Transferra.Core.Machine;

namespace Transferra.Cli.Commands;

/// <summary>A kit named on the command line: its folder, or a packed file, which is unpacked where it goes again.</summary>
internal sealed class OpenedKit : IDisposable
{
    private readonly Session _session;
    private string? _unpacked;

    private OpenedKit(Session session, string? unpacked, Kit kit, KitSeal? seal) => (_session, _unpacked, Kit, Seal) = (session, unpacked,
        kit, seal);

    /// <summary>The kit.</summary>
    public Kit Kit { get; }

    /// <summary>Its seal; null for a folder.</summary>
    public KitSeal? Seal { get; }

    /// <summary>Opens one.</summary>
    /// <exception cref="TransferraException">It is damaged, or not as it was packed.</exception>
    /// <exception cref="DescriptionException">It has a mistake.</exception>
    public static OpenedKit Of(Session session, string path)
    {
        if (Directory.Exists(path)) return new OpenedKit(session, null, KitCommand.Loaded(path), null);
        if (!File.Exists(path)) throw new TransferraException($"there is no {path}", "Name a kit's folder, or a packed kit.");
        string unpacked = Directory.CreateTempSubdirectory("transferra-kit-").FullName;
        try
        {
            string folder = Path.Combine(unpacked, "kit");
            Directory.CreateDirectory(folder);
            KitSeal seal = PackedKit.Unpack(path, folder);
            return new OpenedKit(session, unpacked, KitCommand.Loaded(folder), seal);
        }
        catch
        {
            session.Volume.Remove(unpacked);
            throw;
        }
    }

    /// <summary>Puts what was unpacked into a folder; what is there already goes aside first, and comes back when that fails.</summary>
    /// <param name="folder">The folder.</param>
    /// <param name="aside">Where the one that is there goes; null when there is none.</param>
    public void MoveTo(string folder, string? aside)
    {
        string staged = Path.Combine(Path.GetDirectoryName(folder)!, $".{Path.GetFileName(folder)}-{Path.GetRandomFileName()}");
        try
        {
            FolderCopy.Make(Kit.Folder, staged);
            if (aside is not null) _session.Volume.Rename(folder, aside);
            try { _session.Volume.Rename(staged, folder); }
            catch when (aside is not null)
            {
                _session.Volume.Rename(aside, folder);
                throw;
            }
            _session.Volume.FlushFolder(Path.GetDirectoryName(folder)!);
        }
        finally { _session.Volume.Remove(staged); }
    }

    /// <inheritdoc/>
    public void Dispose()
    {
        if (_unpacked is not null) _session.Volume.Remove(_unpacked);
        _unpacked = null;
    }
}
