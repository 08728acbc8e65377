using Transferra.Core.Backup;
using Transferra.Core.Machine;
using Transferra.Core.Office;
using Transferra.Core.Records;
using Transferra.Core.Runs;
using Transferra.Tests;

namespace Transferra.Core.Tests;

/// <summary>Sets are kept whole over the years: healed from each other, and tidied without losing the last good one.</summary>
public sealed class SetKeepingTests : IDisposable
{
    private readonly TempFolder _folder = new();
    private readonly DiskVolume _volume = new();
    private readonly string _here, _there;
    private readonly byte[] _sound;
    private readonly Company _company;
    private readonly OfficeDescription _office;

    public SetKeepingTests()
    {
        _folder.Write("data/books.db", string.Concat(Enumerable.Range(0, 1500).Select(i => $"record {i * 7919 % 1009};")));
        _folder.Write("data/docs/a.txt", "a document");
        _folder.Write("data/docs/sub/b.txt", string.Concat(Enumerable.Range(0, 300).Select(i => $"{i * 31 % 97}")));
        _company = new Company("ABC", "A firm", SampleKit.Load(), "2", new StoreAddress("memory", _folder["data/books.db"]), null,
            [_folder["data/docs"]],
            new Dictionary<string, string>());
        _office = new OfficeDescription("Office", _folder.Path, [], BackupPlan.In(), 0);
        Directory.CreateDirectory(_folder["here"]);
        Directory.CreateDirectory(_folder["there"]);
        (_here, _there) = (_folder["here/ABC.tar"], _folder["there/ABC.tar"]);
        SetWriting.Write(_office, _company, _volume, _here);
        _sound = File.ReadAllBytes(_here);
        File.WriteAllBytes(_there, _sound);
    }

    public void Dispose() => _folder.Dispose();

    private HealResult Heal(string path, string copy, IVolume? volume = null) =>
        SetHealing.Heal(volume ?? _volume, SetPlaces.Local([_folder["here"], _folder["there"]], volume ?? _volume), path, [copy],
            _folder["scratch"], new OfficeIdentity("0123456789abcdef"));

    private static void Flip(string path, int at)
    {
        using FileStream file = new(path, FileMode.Open, FileAccess.ReadWrite);
        file.Position = at;
        int value = file.ReadByte();
        file.Position = at;
        file.WriteByte((byte)(value ^ 0x10));
    }

    /// <summary>A thousand positions, more than one in each block of the set.</summary>
    [Fact]
    public void Whatever_byte_is_changed_it_is_noticed_located_and_healed_to_the_set_that_was_written()
    {
        IReadOnlyList<(SetMember Member, long Header, long Content, long End)> parts = SetWriting.Parts(_there);
        Assert.True(_sound.Length > 2000);
        for (int sample = 0; sample < 1000; sample++)
        {
            int at = (int)((long)sample * _sound.Length / 1000);
            File.WriteAllBytes(_here, _sound);
            Flip(_here, at);
            IReadOnlyList<SetFault> faults = BackupSets.Verify(_here);
            string wanted = parts.FirstOrDefault(part => at >= part.Header && at < part.End).Member?.Name ?? "";
            // A change of the manifest or of the seal is told of either: the two belong together.
            if (wanted.Length > 0) Assert.Equal(("damaged", wanted), (Assert.Single(faults).Code, faults[0].Member));
            else Assert.Contains(Assert.Single(faults).Code, (string[])["manifest", "seal"]);
            if (sample % 5 > 0) continue;
            HealResult healed = Heal(_here, _there);
            Assert.True(healed.IsHealed, $"byte {at}");
            Assert.Equal(_sound, File.ReadAllBytes(_here));
            Assert.NotEmpty(BackupSets.Verify(healed.Kept));
            File.Delete(healed.Kept);
        }
        Assert.Equal(_sound, File.ReadAllBytes(_there));
        Assert.Single(Directory.GetFileSystemEntries(_folder["here"]));
    }

    [Fact]
    public void Members_that_changed_places_or_come_from_another_set_are_noticed_and_healed()
    {
        (SetMember Member, long Header, long Content, long End)[] files = [.. SetWriting.Parts(_there).Where(part => part.Member.IsFile)];
        string other = _folder["other.tar"];
        File.WriteAllText(_folder["data/docs/a.txt"], "a doctored"); // as long as before
        SetWriting.Write(_office, _company, _volume, other);
        byte[] foreign = File.ReadAllBytes(other), swapped = [.. _sound];
        (SetMember Member, long Header, long Content, long End) document = files.Single(part => part.Member.Name == "documents/0/a.txt"),
            foreignDocument =
            SetWriting.Parts(other).Single(part => part.Member.Name == document.Member.Name);
        Assert.Equal(document.Member.PackedBytes, foreignDocument.Member.PackedBytes);
        foreign.AsSpan((int)foreignDocument.Header, (int)(foreignDocument.End - foreignDocument.Header))
            .CopyTo(swapped.AsSpan((int)document.Header));
        File.WriteAllBytes(_here, swapped);
        Assert.Equal(("damaged", document.Member.Name), Assert.Single(BackupSets.Verify(_here)) is var one ? (one.Code, one.Member)
            : default);
        Assert.True(Heal(_here, _there).IsHealed);
        Assert.Equal(_sound, File.ReadAllBytes(_here));

        // Each pair of files in the other's place, and the whole beginning of another set.
        for (int i = 0; i + 1 < files.Length; i++)
        {
            byte[] first = _sound[(int)files[i].Header..(int)files[i].End],
                second = _sound[(int)files[i + 1].Header..(int)files[i + 1].End];
            int gap = (int)(files[i + 1].Header - files[i].End);
            byte[] reordered = [.. _sound.AsSpan(0, (int)files[i].Header), .. second, .. _sound.AsSpan((int)files[i].End, gap), .. first,
                .. _sound.AsSpan((int)files[i + 1].End)];
            File.WriteAllBytes(_here, reordered);
            string[] told = [.. BackupSets.Verify(_here).Select(fault => fault.Member)];
            Assert.Contains(files[i].Member.Name, told);
            Assert.True(Heal(_here, _there).IsHealed);
            Assert.Equal(_sound, File.ReadAllBytes(_here));
        }
        foreign.AsSpan(0, (int)SetWriting.Parts(other)[0].Header).CopyTo(swapped);
        File.WriteAllBytes(_here, swapped);
        Assert.NotEmpty(BackupSets.Verify(_here));
        Assert.True(Heal(_here, _there).IsHealed);
        Assert.Equal(_sound, File.ReadAllBytes(_here));
    }

    [Fact]
    public void A_large_file_is_healed_frame_by_frame_from_copies_that_are_all_damaged_in_it()
    {
        byte[] large = new byte[(3 * SetManifest.FrameContentBytes) + 1000];
        new Random(1).NextBytes(large.AsSpan(0, large.Length / 2));
        File.WriteAllBytes(_folder["data/docs/large.bin"], large);
        File.Delete(_here);
        SetWriting.Write(_office, _company, _volume, _here);
        byte[] sound = File.ReadAllBytes(_here);
        (SetMember member, _, long content, _) = SetWriting.Parts(_here).Single(part => part.Member.Frames is not null);
        Assert.Equal(4, member.Frames!.Count);
        File.WriteAllBytes(_there, sound);
        Flip(_here, (int)content + 1000);
        Flip(_there, (int)content + member.Frames[0] + 2000);
        Assert.Contains("frame 1 of 4", Assert.Single(BackupSets.Verify(_here)).What, StringComparison.Ordinal);
        HealResult healed = Heal(_here, _there);
        Assert.True(healed.IsHealed);
        Assert.Equal([_here, _there], healed.From);
        Assert.Equal(sound, File.ReadAllBytes(_here));
    }

    [Theory]
    [InlineData(0)]
    [InlineData(600)]
    [InlineData(4000)]
    public void A_set_that_is_cut_off_is_healed(int length)
    {
        File.WriteAllBytes(_here, _sound[..length]);
        Assert.True(Heal(_here, _there).IsHealed);
        Assert.Equal(_sound, File.ReadAllBytes(_here));
    }

    [Fact]
    public void Two_copies_that_are_damaged_at_different_members_make_a_whole_one()
    {
        // The packed content of each member begins with zstd's magic number.
        int[] members = [.. Enumerable.Range(0, _sound.Length - 4)
            .Where(at => _sound.AsSpan(at, 4).SequenceEqual((byte[])[0x28, 0xB5, 0x2F, 0xFD]))];
        Flip(_here, members[0] + 30);
        Flip(_there, members[^1] + 9);
        HealResult healed = Heal(_here, _there);
        Assert.True(healed.IsHealed);
        Assert.Equal([_here, _there], healed.From);
        Assert.Equal(_sound, File.ReadAllBytes(_here));
        Assert.True(Heal(_there, _here).IsHealed);
        Assert.Equal(_sound, File.ReadAllBytes(_there));
    }

    [Fact]
    public void What_no_copy_has_whole_is_named_and_nothing_is_changed()
    {
        int store = _sound.AsSpan().IndexOf((byte[])[0x28, 0xB5, 0x2F, 0xFD]);
        Flip(_here, store + 30);
        Flip(_there, store + 40);
        byte[] before = File.ReadAllBytes(_here);
        HealResult healed = Heal(_here, _there);
        Assert.Equal((false, "store/books.db", ""), (healed.IsHealed, Assert.Single(healed.Missing), healed.Kept));
        Assert.Equal(before, File.ReadAllBytes(_here));
        Assert.Single(Directory.GetFileSystemEntries(_folder["here"]));
    }

    [Fact]
    public void Broken_off_at_any_operation_there_is_always_the_damaged_set_or_the_healed_one()
    {
        byte[] damaged = [.. _sound];
        damaged[^3000] ^= 1;
        for (int n = 1, fired = 1; fired > 0; n++)
        {
            foreach (string left in Directory.GetFileSystemEntries(_folder["here"])) _volume.Remove(left);
            File.WriteAllBytes(_here, damaged);
            var volume = new FaultyVolume(_volume, n, fault: () => new IOException("disk"));
            try { Heal(_here, _there, volume); }
            catch (IOException) { /* reported, as it should be */ }
            fired = volume.FaultsFired;
            byte[][] there = [.. Directory.GetFiles(_folder["here"], "ABC.tar*").Select(File.ReadAllBytes)];
            Assert.Contains(there, bytes => bytes.AsSpan().SequenceEqual(damaged) || bytes.AsSpan().SequenceEqual(_sound));
            if (File.Exists(_here)) Assert.Contains(File.ReadAllBytes(_here), (byte[][])[damaged, _sound]);
        }
        Assert.Equal(_sound, File.ReadAllBytes(_here));
    }

    private const string Ours = "ours";

    private ListedSet Set(string place, int day, string company = "ABC", string version = "1", string? office = Ours) =>
        new(_folder[$"{place}/{company}-{day}.tar"], 100, SetWriting.ManifestOf(_there).Label with
        {
            Company = company,
            DataVersion = version,
            OfficeId = office,
            MadeAt = new DateTimeOffset(2026, 1, day, 0, 0, 0,
            TimeSpan.Zero)
        }, false);

    // A year later, when age protects nothing, unless the test says otherwise.
    private static IReadOnlyList<TidyDecision> Decide(IReadOnlyList<ListedSet> sets, int keep, Func<ListedSet, bool>? isSound = null,
        IReadOnlyList<Run>? runs = null, int keepDays = 30) =>
        SetTidying.Decide(sets, isSound ?? (_ => true), new TidyRules(Ours, runs ?? [], keep, TimeSpan.FromDays(keepDays),
            new DateTimeOffset(2027, 1, 1, 0, 0, 0, TimeSpan.Zero)));

    private static string[] Gone(IEnumerable<TidyDecision> decisions) =>
        [.. decisions.Where(decision => decision.Goes).Select(decision => Path.GetFileNameWithoutExtension(decision.Set.Path))];

    [Fact]
    public void The_newest_sound_ones_of_each_place_and_the_last_sound_one_of_a_company_stay()
    {
        ListedSet[] sets = [Set("here", 1), Set("here", 2), Set("here", 3), Set("there", 1), Set("there", 2), Set("here", 1, "XYZ")];
        Assert.Equal(["ABC-1", "ABC-2", "ABC-1"], Gone(Decide(sets, 1)));
        Assert.Equal(["ABC-1"], Gone(Decide(sets, 2)));
        // Only the first of them is sound: it stays although it is the oldest, and no damaged one that was looked at goes.
        IReadOnlyList<TidyDecision> decisions = Decide(sets, 1, set => set == sets[0] || set.Label.Company == "XYZ");
        Assert.Empty(Gone(decisions));
        Assert.Contains(decisions, decision => decision.Set == sets[2] && decision.Because.StartsWith("damaged", StringComparison.Ordinal));
        Assert.Contains(decisions, decision => decision.Set == sets[0] && decision.Because == "the newest sound one there");
    }

    [Fact] // A9
    public void A_damaged_newest_set_does_not_count_so_that_the_good_one_before_it_stays()
    {
        ListedSet[] sets = [Set("here", 1), Set("here", 2), Set("here", 3)];
        Assert.Equal(["ABC-1"], Gone(Decide(sets, 1, set => set != sets[2])));
    }

    [Fact] // A5
    public void Sets_of_another_office_in_a_shared_place_are_never_removed()
    {
        ListedSet[] sets = [Set("here", 1, office: "theirs"), Set("here", 2, office: null), Set("here", 3), Set("here", 4),
            Set("here", 5, office: "theirs")];
        Assert.Equal(["ABC-3"], Gone(Decide(sets, 1)));
    }

    [Fact] // A5
    public void The_last_sound_set_of_each_data_version_stays_as_long_as_the_office_says()
    {
        ListedSet[] sets = [Set("here", 1), Set("here", 2), Set("here", 3, version: "2"), Set("here", 4, version: "2")];
        Assert.Equal(["ABC-1", "ABC-3"], Gone(Decide(sets, 1, keepDays: 400)));
        Assert.Equal(["ABC-1", "ABC-2", "ABC-3"], Gone(Decide(sets, 1, keepDays: 30)));
        Assert.Equal(["ABC-3"], Gone(Decide(sets, 1, set => set != sets[1], keepDays: 400)));
    }

    [Fact] // A5
    public void The_last_sound_set_of_a_version_stays_while_the_upgrade_from_it_can_be_undone()
    {
        ListedSet[] sets = [Set("here", 1), Set("here", 2), Set("here", 3, version: "2"), Set("here", 4, version: "2")];
        var runs = new OfficeRuns(new OfficeDescription("Office", _folder.Path, [], BackupPlan.In(), 0), _volume);
        Run run = runs.Begin("upgrade", [], "test", new Dictionary<string, string> { ["ABC.from"] = "1" });
        run.Journal.Append("ABC", Stages.ChangeOver, "done");
        run.Journal.Append("", Stages.Run, "ended");
        IReadOnlyList<TidyDecision> decisions = Decide(sets, 1, runs: runs.List());
        Assert.Equal(["ABC-1", "ABC-3"], Gone(decisions));
        Assert.Contains("can still be undone", decisions[1].Because, StringComparison.Ordinal);
        run.Journal.Append("", Stages.Run, "undone");
        Assert.Equal(["ABC-1", "ABC-2", "ABC-3"], Gone(Decide(sets, 1, runs: runs.List())));
    }

    [Fact]
    public void A_set_that_an_unfinished_run_goes_by_stays()
    {
        ListedSet[] sets = [Set("here", 1), Set("here", 2)];
        var runs = new OfficeRuns(new OfficeDescription("Office", _folder.Path, [], BackupPlan.In(), 0), _volume);
        Run run = runs.Begin("restore", [], "test", new Dictionary<string, string> { ["ABC.set"] = sets[0].Path });
        Assert.Empty(Gone(Decide(sets, 1, runs: runs.List())));
        run.Journal.Append("", Stages.Run, "ended");
        Assert.Equal(["ABC-1"], Gone(Decide(sets, 1, runs: runs.List())));
    }

    [Fact]
    public void Proofs_are_remembered_and_a_line_that_was_cut_off_is_passed_over()
    {
        var log = new ProofLog(_folder.Path, _volume);
        log.Add(new SetProof(DateTimeOffset.UnixEpoch, _here, 1, [new SetFault("damaged", "store/books.db", "torn")]));
        log.Add(new SetProof(DateTimeOffset.UnixEpoch.AddDays(1), _here, 2, []));
        File.AppendAllText(_folder["transferra/proofs.jsonl"], "{\"at\":\"20");
        SetProof last = Assert.Single(log.Last()).Value;
        Assert.Equal((true, 2L), (last.IsGood, last.Bytes));
    }

    [Fact]
    public void What_another_process_adds_to_the_proofs_is_seen_also_when_its_line_was_half_there()
    {
        ProofLog log = new(_folder.Path, _volume), other = new(_folder.Path, _volume);
        Assert.Empty(log.Last());
        log.Add(new SetProof(DateTimeOffset.UnixEpoch, _here, 1, []));
        Assert.Equal(1, log.Last()[_here].Bytes);
        other.Add(new SetProof(DateTimeOffset.UnixEpoch, _here, 2, []));
        other.Add(new SetProof(DateTimeOffset.UnixEpoch, _here + "-2", 3, []));
        string file = _folder["transferra/proofs.jsonl"], all = File.ReadAllText(file);
        File.WriteAllText(file, all[..^40]);
        Assert.Equal([2L], log.Last().Values.Select(proof => proof.Bytes));
        File.WriteAllText(file, all);
        Assert.Equal([2L, 3L], log.Last().Values.Select(proof => proof.Bytes).Order());
        // What became shorter is another file.
        File.WriteAllText(file, all[..(all.IndexOf('\n') + 1)]);
        Assert.Equal([1L], log.Last().Values.Select(proof => proof.Bytes));
        File.Delete(file);
        Assert.Empty(log.Last());
    }
}
