// ShutMark.cs: beside each folder that a closing has shut lies a mark that says which office did it, so that another office that knows
// the same folder does not take its shut permissions for the usual ones, and bring those back in the end.
using System.Text.Json;
using Transferra.Core.Machine;

namespace Transferra.Core.Closing;

/// <summary>Who shut a folder.</summary>
/// <param name="Office">Folder of the office.yaml that it was shut for.</param>
/// <param name="What">For a person who finds the mark.</param>
internal sealed record ShutMark(string Office, string What)
{
    private const string Prefix = ".transferra-shut-";

    private static string PathFor(string folder) => Path.Combine(Path.GetDirectoryName(folder) ?? "/", Prefix + Path.GetFileName(folder));

    /// <summary>Whether a file is a mark.</summary>
    public static bool IsNamedSo(string name) => name.StartsWith(Prefix, StringComparison.Ordinal);

    /// <summary>Refuses when another office has shut a folder.</summary>
    /// <param name="folder">The folder or file.</param>
    /// <param name="office">Folder of the office that asks.</param>
    /// <exception cref="TransferraException">Another one has.</exception>
    public static void RefuseOthers(string folder, string office)
    {
        if (Find(folder) is { } mark && mark.Office != office)
            throw new TransferraException($"{folder} was shut by another office, that of {mark.Office}, and is not open again",
                $"Open it there first: transferra reopen --office {mark.Office}. If that office is gone, give the folder its permissions "
                    + $"back by hand and remove {PathFor(folder)}.");
    }

    private static ShutMark? Find(string folder)
    {
        try
        {
            return File.Exists(PathFor(folder)) ? JsonSerializer.Deserialize(File.ReadAllBytes(PathFor(folder)),
                ClosingJson.Default.ShutMark) : null;
        }
        catch (Exception error) when (error is JsonException or IOException or UnauthorizedAccessException)
        { return new ShutMark("(a mark that cannot be read)", ""); }
    }

    /// <summary>Leaves a mark, where this user may.</summary>
    public static void Put(IVolume volume, string folder, string office)
    {
        RefuseOthers(folder, office);
        if (Find(folder) is not null) return;
        try
        {
            volume.Replace(PathFor(folder), JsonSerializer.SerializeToUtf8Bytes(new ShutMark(office,
                "Transferra has shut what is named behind the dash, for an upgrade. It goes when the office is opened again: "
                    + "transferra reopen"), ClosingJson.Default.ShutMark));
        }
        catch (UnauthorizedAccessException) { /* who may not write beside it leaves no mark; the office's own journal knows */ }
    }

    /// <summary>Takes the mark away.</summary>
    public static void Remove(IVolume volume, string folder)
    {
        if (volume.Exists(PathFor(folder))) volume.Remove(PathFor(folder));
    }
}
