// FolderStep.cs: keeps others out of a folder, or of a single file, by its permissions; they hold whatever becomes of our process or the
// machine.
// Why the inode: between closing and reopening, an upgrade may give the folder another name; it is found again by what it is, not by where
// it was. What came to its place meanwhile is left alone.
using System.Globalization;
using Transferra.Core.Machine;
using Transferra.Core.Records;

namespace Transferra.Core.Closing;

/// <summary>A folder or file that only we may enter.</summary>
internal sealed class FolderStep(IReadOnlyDictionary<string, string> facts) : ClosingStep
{
    internal const string KindName = "folder";
    private const UnixFileMode Rights = (UnixFileMode)0x1FF,
        OwnersRights = UnixFileMode.UserRead | UnixFileMode.UserWrite | UnixFileMode.UserExecute;

    /// <summary>The step for a folder or file that is there.</summary>
    public static FolderStep For(string path, string officeFolder)
    {
        string real = FileIdentity.RealPath(path) ?? path;
        return Of(real, real, officeFolder);
    }

    /// <summary>The step for a folder or file that is about to come to another place.</summary>
    /// <param name="path">Where it is, in a run's folder beside that place.</param>
    /// <param name="home">Where it is to come to.</param>
    /// <param name="officeFolder">Folder of office.yaml.</param>
    public static FolderStep Of(string path, string home, string officeFolder)
    {
        FileIdentity identity = FileIdentity.Of(path) ?? throw new TransferraException($"{path} is not there", "Correct office.yaml.");
        return new FolderStep(new Dictionary<string, string>
        {
            ["path"] = home,
            ["new"] = path == home ? "no" : "yes",
            ["mode"] = Convert.ToString((int)File.GetUnixFileMode(path), 8),
            ["identity"] = Text(identity),
            ["office"] = officeFolder,
        });
    }

    /// <summary>What is shut for a store in files: the folder it lies in; the store itself when that folder belongs to the whole machine
    /// or office.</summary>
    /// <param name="store">A store of files.</param>
    /// <param name="officeFolder">Folder of office.yaml.</param>
    public static string Of(StoreAddress store, string officeFolder)
    {
        if (Directory.Exists(store.Path)) return store.Path;
        string folder = store.Folder;
        bool shared = folder.Count(c => c == '/') < 2 || folder == Path.GetTempPath().TrimEnd('/')
            || folder == Path.TrimEndingDirectorySeparator(officeFolder)
            || folder == Environment.GetFolderPath(Environment.SpecialFolder.UserProfile);
        return shared ? store.Path : folder;
    }

    /// <inheritdoc/>
    public override string Kind => KindName;
    /// <inheritdoc/>
    public override string Name => facts["path"] + (facts.GetValueOrDefault("new") == "yes" ? " (new)" : "");
    /// <inheritdoc/>
    public override IReadOnlyDictionary<string, string> Facts => facts;
    /// <inheritdoc/>
    public override string WhenClosed => $"{Name} lets nobody else in";
    /// <inheritdoc/>
    public override string WhenOpen => $"{Name} has its permissions back ({facts["mode"]})";

    /// <summary>Where it was found, or is to come to.</summary>
    public string Home => facts["path"];

    // What was there when the office was closed, and not what came to its place meanwhile.
    private bool IsOld => facts.GetValueOrDefault("new") != "yes" && facts.ContainsKey("office");

    /// <summary>Its permissions as they were found.</summary>
    public UnixFileMode Found => (UnixFileMode)Convert.ToInt32(facts["mode"], 8);

    /// <inheritdoc/>
    public override void Close(ClosingTools tools)
    {
        if (Place() is not { } path) return;
        if (IsOld) ShutMark.Put(tools.Volume, Home, facts["office"]);
        tools.Volume.SetMode(path, Shut(path));
    }

    // Root needs no permission of its own, so that a folder of somebody else's can be shut for its owner, too.
    private UnixFileMode Shut(string path) => FileIdentity.Of(path)?.Owner == FileIdentity.EffectiveUser
        ? Found & ~Rights | Found & OwnersRights : Found & ~Rights;

    /// <inheritdoc/>
    public override string? NotClosed(ClosingTools tools) =>
        Place() is not { } path ? null : File.GetUnixFileMode(path) == Shut(path) ? null : $"{path} lets others in";

    /// <inheritdoc/>
    public override void Reopen(ClosingTools tools)
    {
        if (Place() is { } path) tools.Volume.SetMode(path, Found);
        if (IsOld) ShutMark.Remove(tools.Volume, Home);
    }

    /// <inheritdoc/>
    public override string? NotOpen(ClosingTools tools) =>
        Place() is not { } path ? null : File.GetUnixFileMode(path) == Found
            ? null : $"{path} has the permissions {Convert.ToString((int)File.GetUnixFileMode(path), 8)} and not {facts["mode"]}";

    // Where it is now: at its place, or where a run set it aside beside its place; null when it is gone, or another has its place.
    private string? Place()
    {
        string path = facts["path"];
        if (Is(path)) return path;
        string? folder = Path.GetDirectoryName(path);
        if (folder is null || !Directory.Exists(folder)) return null;
        return Directory.EnumerateDirectories(folder, StoreAddress.RunPrefix + "*").SelectMany(Directory.EnumerateDirectories)
            .Select(aside => Path.Combine(aside, Path.GetFileName(path))).FirstOrDefault(Is);
    }

    private bool Is(string path) => FileIdentity.Of(path) is { } there && Text(there) == facts["identity"];

    private static string Text(FileIdentity identity) => string.Create(CultureInfo.InvariantCulture, $"{identity.Device}:{identity.Inode}");
}
