using Transferra.Core.Backup;
using Transferra.Tests;

namespace Transferra.Core.Tests;

/// <summary>The proof of a set right after it was packed compares quick digests of what was packed; it must see no less.</summary>
public sealed class JustPackedTests : IDisposable
{
    private readonly TempFolder _folder = new();
    private readonly string _set;
    private readonly List<UInt128?> _digests;

    public JustPackedTests()
    {
        var random = new Random(19);
        byte[] large = new byte[(2 * SetManifest.FrameContentBytes) + 77];
        random.NextBytes(large.AsSpan(0, 5000)); // the rest packs well, so that the set stays small
        Directory.CreateDirectory(_folder["docs/deep"]);
        File.WriteAllBytes(_folder["docs/large.bin"], large);
        File.WriteAllText(_folder["docs/empty.txt"], "");
        for (int i = 0; i < 5; i++) File.WriteAllText(_folder[$"docs/deep/{i}.txt"], new string((char)('a' + i), random.Next(1, 3000)));
        // A member that is left out comes before others, whose digests must not be taken for its own.
        File.WriteAllText(_folder["docs/deep/2a.txt"], "gone before it is read");
        _set = _folder["set"];
        using var tree = new SourceTree();
        tree.Add(_folder["docs"], "documents/0");
        File.Delete(_folder["docs/deep/2a.txt"]);
        using var sink = new PlainSink(_set);
        using var writer = new SetWriter(sink, null, (_, _) => { }, CancellationToken.None);
        writer.Run(tree.Sources, new SetManifest(SetManifest.CurrentFormat,
            new SetLabel("Office", "ABC", "A firm", "kit", "1", DateTimeOffset.UtcNow, "me", "test", ""), [],
            new SetStore("none", "memory", new Dictionary<string, string>()), [], [], []), () => []);
        _digests = [.. writer.Notes.Digests];
    }

    public void Dispose() => _folder.Dispose();

    private IReadOnlyList<SetFault> Faults(IReadOnlyList<UInt128?>? digests)
    {
        using var file = new LocalSetFile(_set);
        using var reader = new SetReader(file, SetScrutiny.All) { JustPacked = digests };
        return reader.Run();
    }

    [Fact]
    public void A_sound_set_has_no_fault_and_every_file_of_it_has_a_digest()
    {
        Assert.Equal(SetWriting.ManifestOf(_set).Members.Select(member => member.IsFile), _digests.Select(digest => digest is not null));
        Assert.Contains(SetWriting.ManifestOf(_set).LeftOut, left => left.Name.EndsWith("2a.txt", StringComparison.Ordinal));
        Assert.Empty(Faults(_digests));
        Assert.Empty(Faults(null));
    }

    [Fact]
    public void Content_that_is_not_what_was_packed_is_a_fault_of_its_member_and_of_no_other()
    {
        IReadOnlyList<SetMember> members = SetWriting.ManifestOf(_set).Members;
        for (int i = 0; i < members.Count; i++)
        {
            if (!members[i].IsFile) continue;
            List<UInt128?> other = [.. _digests];
            other[i]++;
            SetFault fault = Assert.Single(Faults(other));
            Assert.Equal(("damaged", members[i].Name, "the unpacked content is not what was backed up"),
                (fault.Code, fault.Member, fault.What));
        }
    }

    [Fact]
    public void Whatever_byte_is_changed_on_the_disk_it_is_told_as_by_a_full_proof()
    {
        byte[] sound = File.ReadAllBytes(_set);
        var random = new Random(7);
        for (int time = 0; time < 300; time++)
        {
            byte[] changed = [.. sound];
            changed[random.Next(changed.Length)] ^= (byte)(1 << random.Next(8));
            File.WriteAllBytes(_set, changed);
            IReadOnlyList<SetFault> quick = Faults(_digests), full = Faults(null);
            Assert.NotEmpty(quick);
            Assert.Equal(full.Select(fault => (fault.Code, fault.Member)), quick.Select(fault => (fault.Code, fault.Member)));
        }
    }
}
