// Room.cs: what an upgrade needs of each disk, added up: backup sets, converted copies of each hop, growth. Two companies that each fit may
// not fit together, so the sum is made by volume and not by company.
using Transferra.Core.Machine;
using Transferra.Core.Office;
using Transferra.Core.Runs;

namespace Transferra.Core.Gates;

/// <summary>Adds up what is needed by volume.</summary>
/// <param name="context">What it works with.</param>
internal sealed class Room(RunContext context)
{
    private sealed record Need(string What, string Folder, long Bytes);

    private readonly Dictionary<long, List<Need>> _byVolume = [];
    private readonly Dictionary<long, string> _folderOf = [];

    /// <summary>Adds a need; a folder that cannot be written is a gate of its own.</summary>
    /// <param name="company">Whose.</param>
    /// <param name="name">The gate's name when it cannot be written.</param>
    /// <param name="what">What takes the room.</param>
    /// <param name="folder">Where; made when it is needed.</param>
    /// <param name="bytes">How much.</param>
    public Gate? Add(string company, string name, string what, string folder, long bytes)
    {
        // A folder that is not there is made when it is needed; that it can be is tried where it would stand.
        string? existing = folder;
        while (existing is not null && !Directory.Exists(existing)) existing = Path.GetDirectoryName(existing);
        try
        {
            if (existing != folder && File.Exists(folder)) throw new IOException("a file of that name is in the way");
            context.Volume.TryWriting(existing!);
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException)
        {
            return new Gate(company, name, GateState.Blocked, $"{folder} cannot be written: {error.Message}",
                $"Run as a user who may write there, or name another place in {OfficeLoader.FileName}.");
        }
        long volume = FileIdentity.Of(existing!)?.Device ?? 0;
        _folderOf.TryAdd(volume, existing!);
        if (!_byVolume.TryGetValue(volume, out List<Need>? needs)) _byVolume[volume] = needs = [];
        needs.Add(new Need($"{company} {what}", existing!, bytes));
        return null;
    }

    /// <summary>A gate for each volume, with the sum.</summary>
    public IEnumerable<Gate> Gates()
    {
        foreach ((long volume, List<Need> needs) in _byVolume)
        {
            long free = new DriveInfo(_folderOf[volume]).AvailableFreeSpace, needed = needs.Sum(need => need.Bytes),
                keep = context.Office.KeepFreeBytes;
            string parts = string.Join(" + ", needs.GroupBy(need => need.What)
                .Select(same => $"{same.Key} {Sizes.Of(same.Sum(need => need.Bytes))}"));
            string sum = $"volume of {_folderOf[volume]}: {Sizes.Of(free)} free, {Sizes.Of(needed)} needed"
                + (keep > 0 ? $" and {Sizes.Of(keep)} to be kept free" : "") + $": {parts}";
            yield return Gate.If(free - needed >= keep, "", "room", sum, $"Make room, or name other places in {OfficeLoader.FileName}.");
        }
    }
}
