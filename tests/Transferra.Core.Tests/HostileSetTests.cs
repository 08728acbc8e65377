using System.Text.Json;
using Transferra.Core.Backup;
using Transferra.Core.Machine;
using Transferra.Core.Office;
using Transferra.Core.Records;
using Transferra.Tests;

namespace Transferra.Core.Tests;

/// <summary>Sets that somebody forged, in the hope that root unpacks them: refused as a whole, before anything is written.</summary>
public sealed class HostileSetTests : IDisposable
{
    private readonly TempFolder _folder = new();
    private readonly SetManifest _sound;
    private readonly byte[] _packed;

    public void Dispose() => _folder.Dispose();

    public HostileSetTests()
    {
        string store = _folder.Write("books.db", "books");
        var volume = new DiskVolume();
        Company company = new("ABC", "A firm", SampleKit.Load(), "2", new StoreAddress("sqlite", store), null, [_folder["docs"]],
            new Dictionary<string, string>());
        _folder.Write("docs/letter.txt", "letter");
        var office = new OfficeDescription("Office", _folder.Path, [], BackupPlan.In(_folder["here"]), 0);
        Directory.CreateDirectory(_folder["here"]);
        SetWriting.Write(office, company, volume, _folder["here/sound.tar"]);
        _sound = SetWriting.ManifestOf(_folder["here/sound.tar"]);
        _packed = File.ReadAllBytes(_folder["here/sound.tar"]);
        Assert.Empty(SetWriting.Unpack(_folder["here/sound.tar"], _folder["out-sound"]));
    }

    // A set with these members, every digest and the seal as they have to be.
    private string Forged(IReadOnlyList<SetMember> members)
    {
        SetManifest manifest = _sound with { Members = [.. members] };
        int room = 512 + (int)SetLayout.Padded(JsonSerializer.SerializeToUtf8Bytes(manifest, SetJson.Form.SetManifest).Length + 1);
        byte[] beginning = SetWriting.Beginning(manifest, room);
        var layoutOfSound = new SetLayout(_sound, SetWriting.Parts(_folder["here/sound.tar"])[0].Header);
        using var file = new MemoryStream();
        file.Write(beginning);
        for (int i = 0; i < members.Count; i++)
        {
            file.Write(SetLayout.HeaderOf(members[i]));
            if (members[i].PackedBytes <= 0) continue;
            int of = Enumerable.Range(0, _sound.Members.Count)
                .First(known => _sound.Members[known].PackedSha256 == members[i].PackedSha256);
            file.Write(_packed.AsSpan((int)layoutOfSound.ContentAt(of), (int)SetLayout.Padded(_sound.Members[of].PackedBytes)));
        }
        file.Write(SetWriting.Seal(beginning, manifest));
        string path = _folder[$"here/{Guid.NewGuid():N}.tar"];
        File.WriteAllBytes(path, file.ToArray());
        return path;
    }

    private SetMember FileMember => _sound.Members.First(member => member.IsFile && member.Name.StartsWith("documents/",
        StringComparison.Ordinal));

    private static SetMember Link(string name, string target) => new(name, MemberKinds.Link, "777", "0:0",
        DateTimeOffset.UnixEpoch)
    { Target = target };

    [Theory]
    [InlineData("leads out by two dots", "leads out of the folder")]
    [InlineData("absolute", "leads out of the folder")]
    [InlineData("of no part", "nothing in a set has such a name")]
    [InlineData("device", "is not a kind of member")]
    [InlineData("runs as its owner", "would run with the rights of its owner")]
    [InlineData("twice", "is in the set twice")]
    [InlineData("link over the kit", "links belong to documents only")]
    [InlineData("below a link", "would lie below documents/0/way, which is not a folder")]
    [InlineData("link in place of a folder", "twice, or stands where a folder is")]
    [InlineData("no frame", "has no frame")]
    [InlineData("frames not told", "its frames are not listed")]
    [InlineData("frames of another size", "are not those of")]
    [InlineData("another name of nothing", "another name of a file that does not stand before it")]
    [InlineData("owner is nonsense", "its permissions or its owner")]
    public void A_hostile_member_is_named_and_nothing_is_written(string what, string says)
    {
        SetMember file = FileMember;
        SetMember[] members = what switch
        {
            "leads out by two dots" => [.. _sound.Members, file with { Name = "documents/0/../../../escaped" }],
            "absolute" => [.. _sound.Members, file with { Name = "/etc/escaped" }],
            "of no part" => [.. _sound.Members, file with { Name = "escaped" }],
            "device" => [.. _sound.Members, file with { Name = "documents/0/disk", Kind = "device" }],
            "runs as its owner" => [.. _sound.Members, file with { Name = "documents/0/tool", Mode = "4755" }],
            "twice" => [.. _sound.Members, file],
            "link over the kit" => [.. _sound.Members, Link("kit/kit2.yaml", "/etc/passwd")],
            "below a link" => [.. _sound.Members, Link("documents/0/way", _folder["elsewhere"]),
                file with { Name = "documents/0/way/escaped" }],
            "link in place of a folder" => [.. _sound.Members, file with { Name = "documents/0/way/escaped" },
                Link("documents/0/way", _folder["elsewhere"])],
            "no frame" => [.. _sound.Members, file with { Name = "documents/0/empty", PackedBytes = 0 }],
            "frames not told" => [.. _sound.Members, file with { Name = "documents/0/large", Bytes = SetManifest.FrameContentBytes + 1 }],
            "frames of another size" => [.. _sound.Members, file with { Name = "documents/0/large", Frames = [1, 2] }],
            "another name of nothing" => [.. _sound.Members,
                Link("documents/0/second", "documents/0/none") with { Kind = MemberKinds.Same }],
            _ => [.. _sound.Members, file with { Name = "documents/0/owned", Owner = "root" }],
        };
        Directory.CreateDirectory(_folder["elsewhere"]);
        if (what == "owner is nonsense")
        {
            Assert.Contains(says, SetMemberRules.Judge(_sound with { Members = [.. members] })!.What, StringComparison.Ordinal);
            return;
        }
        SetFault fault = Assert.Single(SetWriting.Unpack(Forged(members), _folder["out"]));
        Assert.Equal("refused", fault.Code);
        Assert.Equal(what == "link in place of a folder" ? "documents/0/way" : members[^1].Name, fault.Member);
        Assert.Contains(says, fault.What, StringComparison.Ordinal);
        Assert.False(Directory.Exists(_folder["out"]));
        Assert.Empty(Directory.GetFileSystemEntries(_folder["elsewhere"]));
    }

    [Fact]
    public void A_folder_that_became_a_link_meanwhile_is_not_written_through()
    {
        Directory.CreateDirectory(_folder["out/documents"]);
        Directory.CreateDirectory(_folder["elsewhere"]);
        Directory.CreateSymbolicLink(_folder["out/documents/0"], _folder["elsewhere"]);
        Assert.Contains("a link or a file where a folder should be", Assert.Throws<IOException>(() =>
            SetWriting.Unpack(_folder["here/sound.tar"], _folder["out"])).Message, StringComparison.Ordinal);
        Assert.Empty(Directory.GetFileSystemEntries(_folder["elsewhere"]));
    }

    [Fact]
    public void A_folder_walked_by_handles_leads_nowhere_else_also_when_it_is_exchanged_for_a_link()
    {
        _folder.Write("tree/in/side", "mine");
        _folder.Write("secret/side", "root's own");
        using var tree = new FolderTree(PosixFiles.Bytes(_folder["tree"]));
        tree.OpenRead(PosixFiles.Bytes("in/side")).Dispose();
        Directory.Move(_folder["tree/in"], _folder["tree/was"]);
        Directory.CreateSymbolicLink(_folder["tree/in"], _folder["secret"]);
        Assert.Throws<IOException>(() => tree.OpenRead(PosixFiles.Bytes("in/side")));
        Assert.Throws<IOException>(() => tree.Names(PosixFiles.Bytes("in")));
    }

    [Fact]
    public void A_name_that_tells_of_another_set_is_noticed()
    {
        SetLabel label = _sound.Label;
        Assert.Null(BackupSets.JudgeName(BackupSets.NameOf(label, label.MadeAt, false), label));
        Assert.Null(BackupSets.JudgeName(BackupSets.NameOf(label, label.MadeAt.AddSeconds(2), false), label));
        Assert.Equal("name", BackupSets.JudgeName(BackupSets.NameOf(label with { Company = "XYZ" }, label.MadeAt, false), label)!.Code);
        Assert.Equal("name", BackupSets.JudgeName(BackupSets.NameOf(label, label.MadeAt.AddDays(-400), false), label)!.Code);
        Assert.Equal("name", BackupSets.JudgeName("books.tar", label)!.Code);
    }
}
