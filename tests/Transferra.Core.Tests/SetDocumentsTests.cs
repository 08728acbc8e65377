using Transferra.Core.Backup;
using Transferra.Core.Machine;
using Transferra.Core.Matching;
using Transferra.Core.Office;
using Transferra.Core.Records;
using Transferra.Tests;

namespace Transferra.Core.Tests;

/// <summary>Documents come back as they were: rights, times, links, holes, odd names; also with the system's own tools.</summary>
public sealed class SetDocumentsTests : IDisposable
{
    // Everything that can be told of an entry but its own number and the time of its last reading.
    private const string Listing = "find . -printf '%P|%y|%m|%U:%G|%T@|%l|%n\\n' | LC_ALL=C sort; find . -type f -print0 | LC_ALL=C sort "
        + "-z | xargs -0 sha256sum";

    private readonly TempFolder _folder = new();
    private readonly DiskVolume _volume = new();
    private readonly Company _company;
    private readonly OfficeDescription _office;
    private readonly string _set;

    public SetDocumentsTests()
    {
        _folder.Write("data/books.db", "the store");
        _folder.Write("data/docs/plain.txt", "plain");
        _company = new Company("ABC", "A firm", SampleKit.Load(), "2", new StoreAddress("memory", _folder["data/books.db"]), null,
            [_folder["data/docs"]],
            new Dictionary<string, string>());
        _office = new OfficeDescription("Office", _folder.Path, [], BackupPlan.In(), 0);
        _set = _folder["set.tar"];
    }

    public void Dispose() => _folder.Dispose();

    private void MakeOddDocuments() => TempFolder.Shell(_folder["data/docs"], """
        mkdir -p empty 'deep/er and deeper'; chmod 2750 empty
        printf 'a picture' > 'deep/er and deeper/täx 2026.jpg'; chmod 640 'deep/er and deeper/täx 2026.jpg'
        touch -d '2019-02-03 04:05:06.123456789' 'deep/er and deeper/täx 2026.jpg'
        ln 'deep/er and deeper/täx 2026.jpg' second-name.jpg
        ln -s plain.txt link-to-file; ln -s nowhere/at/all dangling; ln -s empty link-to-folder
        printf 'x' > $'new\nline'; printf 'y' > $'not-utf8-\xe9\xff.txt'; printf 'z' > ' '; printf 'w' > '-rf'; : > nothing
        ln -s $'not-utf8-\xe9\xff.txt' $'link-\xfe'
        long=$(printf 'n%.0s' {1..240}); printf 'long' > "$long"; mkdir "$(printf 'd%.0s' {1..90})"
        printf 'v' > "$(printf 'd%.0s' {1..90})/$(printf 'e%.0s' {1..200})"
        truncate -s 9M holes; printf 'end' | dd of=holes bs=1 seek=5000000 conv=notrunc status=none
        head -c 9000000 /dev/urandom > large.bin
        printf '#!/bin/sh' > run.sh; chmod 755 run.sh; [ "$(id -u)" != 0 ] || chown 1234:2345 run.sh
        touch -d '1960-01-01' old; touch -d '2019-01-01' empty; chmod 555 deep
        """);

    [Fact]
    public void Everything_that_can_be_told_of_them_is_as_it_was()
    {
        MakeOddDocuments();
        SetWriting.Write(_office, _company, _volume, _set);
        Assert.Empty(BackupSets.Verify(_set));
        Assert.Empty(SetWriting.ManifestOf(_set).LeftOut);
        Assert.Empty(SetWriting.Unpack(_set, _folder["out"]));
        Assert.Equal(TempFolder.Shell(_folder["data/docs"], Listing), TempFolder.Shell(_folder["out/documents/0"], Listing));
        Assert.InRange(PosixFiles.Stat(PosixFiles.Bytes(_folder["out/documents/0/holes"]))!.Value.BytesOnDisk, 1, 100_000);
        // All kinds are told in the manifest.
        Assert.Equal(["file", "folder", "link", "same"], SetWriting.ManifestOf(_set).Members.Select(member => member.Kind).Distinct()
            .Order());
    }

    [Fact]
    public void Tar_and_zstd_alone_get_everything_out()
    {
        MakeOddDocuments();
        SetWriting.Write(_office, _company, _volume, _set);
        Directory.CreateDirectory(_folder["plain"]);
        TempFolder.Shell(_folder["plain"], $"tar -xpf {_set}; find . -name '*.zst' -links 1 -exec zstd -q -d --rm {{}} +; find . "
            + $"-name '*.zst' -print0 | while IFS= read -r -d '' f; do zstd -q -d -f \"$f\" -o \"${{f%.zst}}\"; done; "
            + "find . -name '*.zst' -delete");
        // zstd knows neither second names nor fractions of seconds; content, rights and links are all there.
        const string coarse = "find . ! -name . -printf '%P|%y|%l\\n' | LC_ALL=C sort; find . -type f ! -name second-name.jpg ! -name "
            + "'*x 2026.jpg' -printf '%P|%m|%U:%G\\n' | LC_ALL=C sort; find . -type f -print0 | LC_ALL=C sort -z | xargs -0 sha256sum";
        Assert.Equal(TempFolder.Shell(_folder["data/docs"], coarse), TempFolder.Shell(_folder["plain/documents/0"], coarse));
        Assert.Equal("the store", File.ReadAllText(_folder["plain/store/books.db"]));
        // The seal is the digest of the beginning: the manifest with its header.
        string sum = TempFolder.Shell(_folder["plain"], $"head -c {SetWriting.Parts(_set)[0].Header} {_set} | sha256sum | cut -c1-64 "
            + "| tr -d '\\n'");
        Assert.Equal(sum, File.ReadAllText(_folder["plain/seal.sha256"]));
    }

    [Fact]
    public void Access_control_lists_and_other_attributes_are_kept_where_the_volume_keeps_them()
    {
        byte[] path = PosixFiles.Bytes(_folder["data/docs/plain.txt"]);
        Assert.True(PosixFiles.SetAttribute(path, "user.scanned-by", "the front desk"u8.ToArray()));
        SetWriting.Write(_office, _company, _volume, _set);
        Assert.Empty(SetWriting.Unpack(_set, _folder["out"]));
        Assert.Equal("the front desk"u8.ToArray(),
            PosixFiles.Attributes(PosixFiles.Bytes(_folder["out/documents/0/plain.txt"]))["user.scanned-by"]);
    }

    [Fact]
    public void What_is_no_file_is_listed_and_no_harm()
    {
        TempFolder.Shell(_folder["data/docs"], "mkfifo pipe");
        SetWriting.Write(_office, _company, _volume, _set);
        LeftOut left = Assert.Single(SetWriting.ManifestOf(_set).LeftOut);
        Assert.Equal(("documents/0/pipe", true), (left.Name, left.IsHarmless));
        Assert.Empty(BackupSets.Verify(_set));
    }

    [Fact]
    public void Places_for_sets_inside_a_document_folder_are_not_packed_into_themselves_and_what_office_yaml_leaves_out_is_not_packed()
    {
        _folder.Write("data/docs/sets/old.tar", "an old set");
        _folder.Write("data/docs/scan.tmp", "half a page");
        _folder.Write("data/docs/drafts/one.txt", "a draft");
        OfficeDescription office = _office with
        {
            Backup = BackupPlan.In(_folder["data/docs/sets"]) with
            {
                Without = ["*.tmp",
            "data/docs/drafts"]
            }
        };
        SetWriting.Write(office, _company, _volume, _set);
        Assert.Equal(["documents/0", "documents/0/plain.txt"], SetWriting.ManifestOf(_set).Members.Select(member => member.Name)
            .Where(name => name.StartsWith("documents/", StringComparison.Ordinal)));
        Assert.All(SetWriting.ManifestOf(_set).LeftOut, left => Assert.True(left.IsHarmless));
        Assert.Equal(["documents/0/drafts", "documents/0/scan.tmp", "documents/0/sets"],
            SetWriting.ManifestOf(_set).LeftOut.Select(left => left.Name));
    }

    [Fact]
    public void One_document_is_taken_out_without_reading_the_others_also_by_its_second_name()
    {
        MakeOddDocuments();
        SetWriting.Write(_office, _company, _volume, _set);
        // Damage to another member is nothing to this one.
        (SetMember Member, long Header, long Content, long End) large = SetWriting.Parts(_set)
            .First(part => part.Member.Name.EndsWith("large.bin", StringComparison.Ordinal));
        using (FileStream file = File.OpenWrite(_set))
        {
            file.Position = large.Content + 100;
            file.Write(new byte[50]);
        }
        Assert.Empty(SetWriting.Unpack(_set, _folder["out"], name => name == "documents/0/second-name.jpg"));
        Assert.Equal("a picture", File.ReadAllText(_folder["out/documents/0/second-name.jpg"]));
        Assert.Equal(large.Member.Name, Assert.Single(SetWriting.Unpack(_set, _folder["other"])).Member);
    }

    [Fact]
    public void Of_an_unchanged_store_the_baseline_is_kept_unless_an_earlier_release_recorded_less()
    {
        MakeOddDocuments();
        Thread.Sleep(1100); // what was changed in the last second is read again
        string[] sets = [_set, _folder["second.tar"], _folder["third.tar"]];
        string groups = RecordedTable.Written(new Fingerprint[1]);
        TableBaseline[] taken = [new("T", 3, 0, "00"), new("T", 4, 0, "01") { Groups = groups }, new("T", 5, 0, "02") { Groups = groups }];
        for (int i = 0; i < sets.Length; i++)
            SetWriting.Write(_office, _company, _volume, sets[i], earlier: i == 0 ? null : sets[i - 1], baseline: taken[i]);
        long[] recorded = [.. sets.Select(set => Assert.Single(SetWriting.ManifestOf(set).Baseline).Records)];
        Assert.Equal([3, 4, 4], recorded);
        Assert.Null(SetWriting.ManifestOf(sets[0]).Recorded());
        Assert.NotNull(SetWriting.ManifestOf(sets[2]).Recorded());
    }

    [Fact]
    public void Unchanged_files_are_taken_from_the_set_before_and_the_set_is_complete_in_itself()
    {
        MakeOddDocuments();
        Thread.Sleep(1100); // what was changed in the last second is read again
        SetWriting.Write(_office, _company, _volume, _set);
        string second = _folder["second.tar"], third = _folder["third.tar"];
        File.WriteAllText(_folder["data/docs/plain.txt"], "plaid");
        File.WriteAllText(_folder["data/docs/new.txt"], "new");
        File.Delete(_folder["data/docs/nothing"]);
        IReadOnlySet<string> reused = SetWriting.Write(_office, _company, _volume, second, earlier: _set);
        Assert.Contains("documents/0/large.bin", reused);
        Assert.Contains("store/books.db", reused);
        Assert.DoesNotContain("documents/0/plain.txt", reused);
        Assert.Equal(SetWriting.ManifestOf(second).Files, reused.Count + 2);
        File.Delete(_set);
        Assert.Empty(BackupSets.Verify(second));
        Assert.Empty(SetWriting.Unpack(second, _folder["out"]));
        Assert.Equal(TempFolder.Shell(_folder["data/docs"], Listing), TempFolder.Shell(_folder["out/documents/0"], Listing));
        // The same size and the same time of change do not make it the same file.
        TempFolder.Shell(_folder["data/docs"], "cp -p plain.txt saved; printf plaud > plain.txt; touch -r saved plain.txt; rm saved");
        Assert.DoesNotContain("documents/0/plain.txt", SetWriting.Write(_office, _company, _volume, third, earlier: second));
        Assert.Empty(SetWriting.Unpack(third, _folder["last"]));
        Assert.Equal("plaud", File.ReadAllText(_folder["last/documents/0/plain.txt"]));
    }

    [Fact]
    public void Content_is_taken_from_the_set_before_also_where_its_owner_has_another_name_by_now()
    {
        MakeOddDocuments();
        Thread.Sleep(1100);
        SetWriting.Write(_office, _company, _volume, _set);
        SetMember[] before = [.. SetWriting.ManifestOf(_set).Members];
        string[] renamed = [.. before.Where(member => member.IsFile && member.Owner.EndsWith("root:root", StringComparison.Ordinal))
            .Select(member => member.Name).Where((_, i) => i % 2 == 0)];
        Assert.NotEmpty(renamed);
        SetWriting.Forge(_set, member => renamed.Contains(member.Name)
            ? member with { Owner = member.Owner.Replace("root:root", "toor:toor", StringComparison.Ordinal) } : member);
        Assert.Empty(BackupSets.Verify(_set));
        string second = _folder["second.tar"];
        Assert.Superset(renamed.ToHashSet(), SetWriting.Write(_office, _company, _volume, second, earlier: _set).ToHashSet());
        Assert.Empty(BackupSets.Verify(second));
        Assert.Equal(before.Select(member => (member.Name, member.Owner, member.Sha256)),
            SetWriting.ManifestOf(second).Members.Select(member => (member.Name, member.Owner, member.Sha256)));
    }

    [Fact]
    public void A_file_that_does_not_hold_still_is_listed_and_of_the_store_stops_it()
    {
        // /proc/self/status is told to have no bytes, and has some.
        File.CreateSymbolicLink(_folder["data/docs-live"], "/proc/self/fdinfo");
        Company live = _company with { OldStore = new StoreAddress("memory", "/proc/self/status") };
        var error = Assert.Throws<TransferraException>(() => SetWriting.Write(_office, live, _volume, _set));
        Assert.Contains("was changed while it was read", error.Message, StringComparison.Ordinal);
        Assert.False(File.Exists(_set));
        Directory.CreateDirectory(_folder["data/more"]);
        Company withLive = _company with { DocumentFolders = [_folder["data/docs"], "/proc/self/status"] };
        SetWriting.Write(_office, withLive, _volume, _set);
        Assert.True(SetWriting.ManifestOf(_set).Members.Single(member => member.Name == "documents/1").Changing);
        Assert.Empty(BackupSets.Verify(_set));
    }

    [Fact]
    public void A_document_that_cannot_be_read_or_a_folder_that_is_gone_is_listed_and_the_rest_is_kept()
    {
        // Reading it is refused by the system, also for root.
        Company damaged = _company with { DocumentFolders = [_folder["data/docs"], "/proc/self/mem", _folder["data/gone"]] };
        SetWriting.Write(_office, damaged, _volume, _set);
        Assert.Equal([("documents/1", false), ("documents/2", false)], SetWriting.ManifestOf(_set).LeftOut.Select(left =>
            (left.Name, left.IsHarmless)).Order());
        Assert.Contains(SetWriting.ManifestOf(_set).Members, member => member.Name == "documents/0/plain.txt");
        Assert.Empty(BackupSets.Verify(_set));
    }

    [Fact]
    public void Of_a_large_document_with_a_bad_spot_the_rest_is_kept_and_what_is_missing_is_told()
    {
        byte[] large = new byte[(4 * SetManifest.FrameContentBytes) + 5];
        new Random(5).NextBytes(large);
        File.WriteAllBytes(_folder["data/docs/large.bin"], large);
        var tree = new SourceTree();
        tree.Add(_folder["data/docs"], "documents/0");
        var label = new SetLabel("Office", "ABC", "A firm", "kit", "1", DateTimeOffset.UtcNow, "me", "test", "");
        using (var sink = new PlainSink(_set))
        using (var writer = new SetWriter(sink, null, (_, _) => { }, CancellationToken.None)
        {
            // The disk gives no answer for the second and the third frame, with a long reason.
            ReadAt = (file, buffer, position) => position is >= SetManifest.FrameContentBytes and < 3 * SetManifest.FrameContentBytes
                ? throw new IOException(new string('\u00E9', 400)) : RandomAccess.Read(file, buffer.Span, position),
        }) writer.Run(tree.Sources, new SetManifest(SetManifest.CurrentFormat, label, [],
            new SetStore("none", "memory", new Dictionary<string, string>()), [], [], []), () => []);
        LeftOut left = Assert.Single(SetWriting.ManifestOf(_set).LeftOut);
        Assert.Equal(("documents/0/large.bin", false), (left.Name, left.IsHarmless));
        Assert.Contains("bytes 4194304 to 8388608 could not be read and are zeros in the set", left.Why, StringComparison.Ordinal);
        Assert.Empty(BackupSets.Verify(_set));
        Assert.Empty(SetWriting.Unpack(_set, _folder["out"]));
        large.AsSpan(SetManifest.FrameContentBytes, 2 * SetManifest.FrameContentBytes).Clear();
        Assert.Equal(large, File.ReadAllBytes(_folder["out/documents/0/large.bin"]));
        // Of the store it stops the set.
        var ofStore = new SourceTree();
        ofStore.Add(_folder["data/docs"], "store/books");
        using var other = new PlainSink(_folder["other"]);
        using var stopped = new SetWriter(other, null, (_, _) => { }, CancellationToken.None)
        {
            ReadAt = (_, _, _) =>
            throw new IOException("bad spot")
        };
        Assert.Contains("could not be read", Assert.Throws<TransferraException>(() =>
            stopped.Run(ofStore.Sources, new SetManifest(SetManifest.CurrentFormat, label, [],
                new SetStore("books", "dbf", new Dictionary<string, string>()),
            [], [], []), () => [])).Message, StringComparison.Ordinal);
    }

    [Theory]
    [InlineData(false)]
    [InlineData(true)]
    public void Frames_of_either_library_are_read_by_both_and_damage_is_told(bool packsNatively)
    {
        Assert.True(ZstdFrames.IsNative, "libzstd.so.1 should be on a machine that runs tests");
        using ZstdFrames packing = packsNatively ? ZstdFrames.Create() : ZstdFrames.CreateManaged(), unpacking = packsNatively
            ? ZstdFrames.CreateManaged() : ZstdFrames.Create();
        byte[] content = [.. Enumerable.Range(0, 100_000).Select(i => (byte)(i * i / 7))],
            frame = new byte[ZstdFrames.Bound(content.Length)], back = new byte[content.Length];
        int size = packing.Pack(content, frame);
        Assert.InRange(size, 1, content.Length + 100);
        Assert.Equal(content.Length, unpacking.Unpack(frame.AsSpan(0, size), back));
        Assert.Equal(content, back);
        Assert.Equal(-1, unpacking.Unpack(frame.AsSpan(0, size - 1), back));
        Assert.Equal(-1, unpacking.Unpack(frame.AsSpan(0, size), back.AsSpan(1)));
        frame[size / 2] ^= 4;
        Assert.Equal(-1, unpacking.Unpack(frame.AsSpan(0, size), back));
        Assert.Equal(0, unpacking.Unpack(frame.AsSpan(0, packing.Pack([], frame)), back));
    }
}
