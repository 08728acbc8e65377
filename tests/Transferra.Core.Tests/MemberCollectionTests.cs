using System.Text.Json;
using Transferra.Core.Backup;
using Transferra.Tests;

namespace Transferra.Core.Tests;

public class MemberCollectionTests(ITestOutputHelper output)
{
    private static string? Maybe(Random random, params string?[] texts) => texts[random.Next(texts.Length)];

    private static SetMember Any(Random random)
    {
        string digest = Convert.ToHexStringLower([.. Enumerable.Range(0, 32).Select(_ => (byte)random.Next(256))]);
        return new SetMember(new string('ü', random.Next(3)) + "documents/" + random.Next(9),
            Maybe(random, "file", "folder", "link", "same", "device", "")!,
            Maybe(random, "644", "755", "99999999999")!, Maybe(random, "0:0 root:root", "1000:1000", "root")!,
            new DateTimeOffset(random.NextInt64(DateTime.MaxValue.Ticks / 2), TimeSpan.FromMinutes(random.Next(3) == 0 ? -90 : 0)))
        {
            Nanoseconds = random.Next(-1, 100),
            Bytes = random.Next(3) switch { 0 => 0, 1 => random.NextInt64(), _ => -5 },
            PackedBytes = random.Next(3) == 0 ? 0 : random.NextInt64(),
            Sha256 = Maybe(random, null, "", digest, digest.ToUpperInvariant(), "no digest"),
            PackedSha256 = Maybe(random, null, digest, digest + "00"),
            PackedXxh128 = Maybe(random, null, digest[..32], new string('0', 32)),
            Frames = random.Next(3) switch { 0 => [], 1 => [4, int.MaxValue, -1], _ => null },
            Target = Maybe(random, null, "", "documents/0/first"),
            Sparse = random.Next(2) == 0,
            Changing = random.Next(2) == 0,
            Attributes = random.Next(3) switch
            {
                0 => new Dictionary<string, string>(),
                1 => new Dictionary<string, string> { ["user.a"] = "", ["system.posix_acl_access"] = digest },
                _ => null
            },
            RawName = Maybe(random, null, "/w=="),
            RawTarget = Maybe(random, null, ""),
            Stamp = Maybe(random, null, "64769:1234567:1764450000000000000", new string('x', 300_000)),
        };
    }

    // Lists and dictionaries by what is in them.
    private static string Written(SetMember member) => JsonSerializer.Serialize(member) + member.Modified.Ticks + member.Modified.Offset;

    [Fact]
    public void Holds_1_what_comes_out_is_what_went_in()
    {
        var random = new Random(Seeds.Given);
        output.WriteLine($"seed {Seeds.Given}");
        SetMember[] members = [.. Enumerable.Range(0, 500).Select(_ => Any(random))];
        var list = new MemberCollection(keptChunks: 1 + random.Next(3)); // the rest is on disk
        foreach (SetMember member in members) list.Add(member);
        Assert.Equal(members.Length, list.Count);
        for (int time = 0; time < 1000; time++)
        {
            int at = random.Next(members.Length);
            Assert.Equal(Written(members[at]), Written(list[at]));
        }
        Assert.Equal(members.Select(Written), list.Select(Written));
        // By several threads at once, which go their own ways.
        Parallel.For(0, 4, of =>
        {
            var own = new Random(of);
            for (int time = 0; time < 200; time++)
            {
                int at = own.Next(members.Length);
                Assert.Equal(Written(members[at]), Written(list[at]));
            }
        });
        // Through a manifest and back.
        var manifest = new SetManifest(SetManifest.CurrentFormat, new SetLabel("Office", "ABC", "A firm", "kit", "1", default, "me", "test",
            ""), [], new SetStore("none", "memory", new Dictionary<string, string>()), list, [], []);
        SetManifest read = JsonSerializer.Deserialize(JsonSerializer.SerializeToUtf8Bytes(manifest, SetJson.Form.SetManifest),
            SetJson.Form.SetManifest)!;
        Assert.Equal(members.Select(Written), read.Members.Select(Written));
    }

    [Fact]
    public void Made_ones_are_made_when_they_are_asked_for_and_nothing_is_added_to_them()
    {
        MemberCollection made = MemberCollection.Made(3, at => new SetMember("m" + at, "file", "644", "0:0", default));
        Assert.Equal(["m0", "m1", "m2"], made.Select(member => member.Name));
        Assert.Throws<NotSupportedException>(() => made.Add(made[0]));
        Assert.Contains(made[2], made);
    }

    [Fact]
    public void A_manifest_with_a_member_that_is_none_is_told_of_and_stops_nothing()
    {
        using var folder = new TempFolder();
        var manifest = new SetManifest(SetManifest.CurrentFormat, new SetLabel("Office", "ABC", "A firm", "kit", "1", default, "me", "test",
            ""), [], new SetStore("none", "memory", new Dictionary<string, string>()), [], [], []);
        byte[] json = System.Text.Encoding.UTF8.GetBytes(JsonSerializer.Serialize(manifest, SetJson.Form.SetManifest)
            .Replace("\"members\": []", "\"members\": [null]", StringComparison.Ordinal)),
            beginning = new byte[SetLayout.Block + SetLayout.Padded(json.Length)];
        SetLayout.ManifestHeader(json.Length, default).CopyTo(beginning, 0);
        json.CopyTo(beginning, SetLayout.Block);
        File.WriteAllBytes(folder["set"], [.. beginning, .. SetWriting.Seal(beginning, manifest)]);
        SetFault fault = Assert.Single(BackupSets.Verify(folder["set"]));
        Assert.Equal("manifest", fault.Code);
        Assert.Contains("impossible members", fault.What, StringComparison.Ordinal);
    }

    [Fact]
    public void Holds_2_a_hundred_thousand_members_take_less_than_a_quarter_of_what_they_take_as_objects()
    {
        const int count = 100_000;
        SetMember Document(int at) => new($"documents/0/folder {at / 100}/letter of {at}.pdf", "file", "644", "1000:1000 anna:office",
            new DateTimeOffset(2026, 1, 1, 0, 0, 0, TimeSpan.Zero).AddSeconds(at))
        {
            Bytes = 10_000 + at,
            PackedBytes = 9_000,
            Sha256 = at.ToString("x64", System.Globalization.CultureInfo.InvariantCulture),
            PackedSha256 = at.ToString("x64", System.Globalization.CultureInfo.InvariantCulture),
            PackedXxh128 = at.ToString("x32", System.Globalization.CultureInfo.InvariantCulture),
            Stamp = $"64769:{at}:1764450000000000000"
        };
        long before = GC.GetTotalMemory(forceFullCollection: true);
        List<SetMember> objects = [.. Enumerable.Range(0, count).Select(Document)];
        long ofObjects = GC.GetTotalMemory(forceFullCollection: true) - before;
        MemberCollection packed = [.. objects];
        long both = GC.GetTotalMemory(forceFullCollection: true) - before;
        Assert.Equal(objects[^1], packed[count - 1]);
        output.WriteLine($"{ofObjects / count} and {(both - ofObjects) / count} bytes each");
        Assert.True(4 * (both - ofObjects) < ofObjects, $"{both - ofObjects} of {ofObjects}");
        GC.KeepAlive(objects);
    }
}
