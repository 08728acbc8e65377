using Transferra.Core.Backup;
using Transferra.Core.Machine;
using Transferra.Core.Matching;
using Transferra.Core.Office;
using Transferra.Core.Records;
using Transferra.Core.Runs;
using Transferra.Tests;

namespace Transferra.Core.Tests;

/// <summary>Writes sets of a company for tests, without a real store, and takes them apart.</summary>
internal static class SetWriting
{
    public static IReadOnlySet<string> Write(OfficeDescription office, Company company, IVolume volume, string path,
        string? earlier = null, SetPlaces? sets = null, TableBaseline? baseline = null)
    {
        var context = new RunContext(office, null!, volume, null!, "test", CancellationToken.None);
        if (sets is not null) context = context with { Sets = sets };
        var table = new TableShape("T", [new ColumnShape("a", FieldType.Integer)], ["a"], []);
        var order = new PackOrder(company, company.OldStore, new MemoryStore().With(table), "1", [table],
            () => [baseline ?? new TableBaseline("T", 3, 0, "00")],
            Path.GetDirectoryName(path)!)
        { Earlier = earlier };
        using PackedSet packed = BackupSets.Pack(context, order, (_, _) => { });
        packed.MoveInto(new LocalPlace(Path.GetDirectoryName(path)!, volume), Path.GetFileName(path));
        if (packed.Reused == 0) return new HashSet<string>();
        using ISetFile written = (sets ?? SetPlaces.Local([Path.GetDirectoryName(path)!], volume)).Open(path);
        MemberCollection members = SetBeginning.Read(written).Manifest!.Members;
        return members.Index().Where(member => packed.IsReused(member.Index)).Select(member => member.Item.Name).ToHashSet();
    }

    public static SetManifest ManifestOf(string path)
    {
        using var file = new LocalSetFile(path);
        return SetBeginning.Read(file).Manifest!;
    }

    public static IReadOnlyList<SetFault> Unpack(string path, string folder, Func<string, bool>? isWanted = null)
    {
        using var file = new LocalSetFile(path);
        return BackupSets.Unpack(file, folder, isWanted);
    }

    /// <summary>Where each member's header, content and end are.</summary>
    public static IReadOnlyList<(SetMember Member, long Header, long Content, long End)> Parts(string path)
    {
        using var file = new LocalSetFile(path);
        SetBeginning beginning = SetBeginning.Read(file);
        SetLayout layout = beginning.Layout();
        return [.. beginning.Manifest!.Members.Select((member, i) => (member, layout.HeaderAt(i), layout.ContentAt(i), layout.EndOf(i)))];
    }

    /// <summary>The manifest with its header, of a size.</summary>
    public static byte[] Beginning(SetManifest manifest, int bytes)
    {
        byte[] beginning = new byte[bytes];
        using var room = new MemoryStream(beginning);
        SetWriter.WriteBeginning(manifest, bytes, room);
        return beginning;
    }

    /// <summary>The seal that belongs to a beginning.</summary>
    public static byte[] Seal(byte[] beginning, SetManifest manifest) =>
        SetLayout.Seal(Convert.ToHexStringLower(System.Security.Cryptography.SHA256.HashData(beginning)), manifest.Label.MadeAt);

    /// <summary>Gives a member another name of the same length everywhere, and seals the set anew.</summary>
    public static void Forge(string path, string name, string forged) => Forge(path, member => member.Name == name
        ? member with { Name = forged } : member);

    /// <summary>Changes members everywhere, none of them in its length, and seals the set anew.</summary>
    public static void Forge(string path, Func<SetMember, SetMember> forge)
    {
        SetManifest manifest = ManifestOf(path);
        byte[] old = File.ReadAllBytes(path);
        SetMember[] members = [.. manifest.Members.Select(forge)];
        int beginningBytes = (int)Parts(path)[0].Header;
        byte[] beginning = Beginning(manifest with { Members = [.. members] }, beginningBytes);
        beginning.CopyTo(old, 0);
        foreach ((long header, SetMember member) in Parts(path).Zip(members, (part, member) =>
            (part.Header, member))) SetLayout.HeaderOf(member).CopyTo(old, header);
        Seal(beginning, manifest).CopyTo(old, old.Length - SetLayout.SealBytes);
        File.WriteAllBytes(path, old);
    }
}
