// KitPackCommand.cs: kit pack and kit add: a kit in one file, sealed and signed by its maker, and taken in after a look at what it runs.
using System.CommandLine;
using System.Globalization;
using System.Security.Cryptography;
using Transferra.Cli.Rendering;
using Transferra.Core.Kits;
using Transferra.Core.Machine;
using Transferra.Core.Runs;

namespace Transferra.Cli.Commands;

internal static class KitPackCommand
{
    private const UnixFileMode OthersMay = UnixFileMode.GroupRead | UnixFileMode.GroupWrite | UnixFileMode.OtherRead
        | UnixFileMode.OtherWrite;

    /// <summary>What is typed for it.</summary>
    public static void Declare(CommandSet commands)
    {
        var folder = new Argument<string>("folder") { Description = "The kit's folder", HelpName = "FOLDER" };
        var to = new Option<string>("--to") { Description = "The file, which must not be there yet", HelpName = "FILE", Required = true };
        var key = new Option<string?>("--key")
        {
            Description = "Sign it with this key: a private key for ECDSA P-256, PEM, that only you may read",
            HelpName = "FILE"
        };
        commands.Add("kit pack", "Pack a kit into one file, sealed, and signed where a key is named", [folder, to, key],
            (session, parsed) => Pack(session, Path.GetFullPath(parsed.GetValue(folder)!), Path.GetFullPath(parsed.GetValue(to)!),
                parsed.GetValue(key)));
        var packed = new Argument<string>("file") { Description = "A packed kit", HelpName = "FILE" };
        var into = new Option<string?>("--into") { Description = "Folder for the kit; kits/NAME when left out", HelpName = "FOLDER" };
        var replace = new Option<bool>("--replace") { Description = "Where it is there already, set that one aside" };
        var maker = new Option<string?>("--maker")
        {
            Description = "Only when it is signed with the key of this fingerprint",
            HelpName = "SHA256:..."
        };
        commands.Add("kit add", "Take a packed kit in, unless it was altered; shows what it would run", [packed, into, replace, maker],
            (session, parsed) => Take(session, Path.GetFullPath(parsed.GetValue(packed)!), parsed.GetValue(into),
                parsed.GetValue(replace), parsed.GetValue(maker)));
    }

    internal sealed record Packed(string Kit, string Path, string? Maker, IReadOnlyList<KitRun> Runs);

    private static int Pack(Session session, string folder, string to, string? keyFile)
    {
        Kit kit = KitCommand.Loaded(folder);
        if (KitCheck.Of(kit).FirstOrDefault(remark => remark.Grade == RemarkGrade.Mistake) is { } mistake)
            throw new TransferraException($"{mistake.Where}: {mistake.What}", "Correct it first: transferra kit check " + folder);
        if (Path.Exists(to)) throw new TransferraException($"{to} is there already", "Name a file that is not there yet.");
        if (to.StartsWith(folder + "/", StringComparison.Ordinal)) throw new TransferraException($"{to} lies in the kit itself",
            "Name a file elsewhere.");
        using ECDsa? key = keyFile is null ? null : KeyIn(keyFile);
        string staged = to + ".part";
        try
        {
            using (FileStream file = new(staged, FileMode.Create, FileAccess.Write)) PackedKit.Write(folder, key, file);
            session.Volume.FlushFile(staged);
            session.Volume.Rename(staged, to);
            session.Volume.FlushFolder(Path.GetDirectoryName(to)!);
        }
        finally { session.Volume.Remove(staged); }
        string? maker = key is null ? null : SignedDigests.FingerprintOf(key);
        session.Screen.Good($"Packed: {to}, {Sizes.Of(new FileInfo(to).Length)}");
        session.Screen.Line(maker is null ? "Nobody signed it. Whoever takes it in sees only that it is whole." : $"Signed with {maker}. "
            + "Tell that to whoever takes it in, by another way than the file.");
        return session.Answer(ExitCodes.Done, new Packed(kit.Id, to, maker, KitRuns.Of(kit)));
    }

    private static ECDsa KeyIn(string path)
    {
        if (!File.Exists(path)) throw new TransferraException($"there is no key {path}",
            "Make one: openssl ecparam -name prime256v1 -genkey -noout -out FILE");
        if ((File.GetUnixFileMode(path) & OthersMay) != 0) throw new TransferraException($"others may read the key {path}",
            $"chmod 600 {path}");
        var key = ECDsa.Create();
        try
        {
            key.ImportFromPem(PlainFile.ReadText(path));
            if (key.KeySize == 256 && key.ExportParameters(true).D is not null) return key;
        }
        catch (Exception error) when (error is CryptographicException or ArgumentException) { /* told below */ }
        key.Dispose();
        throw new TransferraException($"{path} is not a private key for ECDSA P-256 without a passphrase",
            "Make one: openssl ecparam -name prime256v1 -genkey -noout -out FILE");
    }

    internal sealed record Taken(string Kit, string Folder, string? Maker, IReadOnlyList<KitRun> Runs, IReadOnlyList<string> Changed,
        string? MakerBefore, string? SetAside);

    private static int Take(Session session, string packed, string? into, bool replaces, string? maker)
    {
        using OpenedKit opened = OpenedKit.Of(session, packed);
        KitSeal seal = opened.Seal!;
        if (maker is not null && maker != seal.Maker)
            throw new TransferraException($"it was signed with {seal.Maker ?? "no key"}, and not with {maker}",
                "Ask whoever made it for the fingerprint of their key, by another way than the file.");
        Kit kit = opened.Kit;
        string folder = Path.GetFullPath(into ?? Path.Combine(session.OfficeFolder, "kits", kit.Id));
        bool isThere = Directory.Exists(folder) && Directory.EnumerateFileSystemEntries(folder).Any();
        if (File.Exists(folder) || (isThere && !replaces)) throw new TransferraException($"{folder} is there already",
            "To set it aside and take this one: --replace. Or name another folder: --into");
        KitSeal? before = isThere ? KitSeal.Of(folder) : null;
        string[] changed = isThere ? [.. Differences(folder, kit.Folder)] : [];
        string? aside = null;
        session.Volume.CreateFolder(Path.GetDirectoryName(folder)!);
        if (isThere)
        {
            string kept = Path.Combine(session.OfficeFolder, "transferra", "kits");
            session.Volume.CreateFolder(kept);
            aside = Path.Combine(kept, $"{kit.Id}-{DateTime.UtcNow.ToString("yyyyMMdd-HHmmss", CultureInfo.InvariantCulture)}");
        }
        else if (Directory.Exists(folder)) Directory.Delete(folder);
        opened.MoveTo(folder, aside);
        session.Screen.Good($"Taken in: {kit.Title}, {folder}");
        session.Screen.Line($"The kit: {seal.Words}.");
        bool isOther = before is { Maker: { } known } && known != seal.Maker;
        if (isOther) session.Screen.Bad($"The one before was signed with {before!.Maker}. Ask its maker before you use this one.");
        if (aside is not null) session.Screen.Line($"The one before is kept in {aside}; different: "
            + (changed.Length == 0 ? "nothing" : string.Join(", ", changed)));
        KitResults.Runs(session.Screen, kit);
        return session.Answer(isOther ? ExitCodes.LookAt : ExitCodes.Done, new Taken(kit.Id, folder, seal.Maker, KitRuns.Of(kit), changed,
            before?.Maker, aside));
    }

    private static IEnumerable<string> Differences(string before, string now)
    {
        IReadOnlyDictionary<string, string> old = KitSeal.Digests(before), renewed = KitSeal.Digests(now);
        return old.Keys.Union(renewed.Keys).Order(StringComparer.Ordinal).Where(name => old.GetValueOrDefault(name)
            != renewed.GetValueOrDefault(name));
    }
}
