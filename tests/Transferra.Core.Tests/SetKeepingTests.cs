using Transferra.Core.Backup;
using Transferra.Core.Matching;
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

    public SetKeepingTests()
    {
        _folder.Write("data/books.db", string.Concat(Enumerable.Range(0, 1500).Select(i => $"record {i * 7919 % 1009};")));
        _folder.Write("data/docs/a.txt", "a document");
        _folder.Write("data/docs/sub/b.txt", string.Concat(Enumerable.Range(0, 300).Select(i => $"{i * 31 % 97}")));
        var company = new Company("ABC", "A firm", SampleKit.Load(), "2", new StoreAddress("memory", _folder["data/books.db"]), null, [_folder["data/docs"]], new Dictionary<string, string>());
        var office = new OfficeDescription("Office", _folder.Path, [], [], 0);
        Directory.CreateDirectory(_folder["here"]);
        Directory.CreateDirectory(_folder["there"]);
        (_here, _there) = (_folder["here/ABC.tar"], _folder["there/ABC.tar"]);
        BackupSets.Write(new RunContext(office, null!, _volume, null!, "test", CancellationToken.None), company, company.OldStore, new MemoryStore(), "1", [new TableBaseline("T", 3, 0, "00")], _here, (_, _) => { });
        _sound = File.ReadAllBytes(_here);
        File.WriteAllBytes(_there, _sound);
    }

    public void Dispose() => _folder.Dispose();

    private static void Flip(string path, int at)
    {
        using FileStream file = new(path, FileMode.Open, FileAccess.ReadWrite);
        file.Position = at;
        int value = file.ReadByte();
        file.Position = at;
        file.WriteByte((byte)(value ^ 0x10));
    }

    [Fact]
    public void Whatever_byte_is_changed_it_is_noticed_and_healed_to_the_set_that_was_written()
    {
        for (int at = 3; at < _sound.Length; at += _sound.Length / 150)
        {
            File.WriteAllBytes(_here, _sound);
            Flip(_here, at);
            Assert.NotEmpty(BackupSets.Verify(_here));
            HealResult healed = SetHealing.Heal(_volume, _here, [_there]);
            Assert.True(healed.IsHealed, $"byte {at}");
            Assert.Equal(_sound, File.ReadAllBytes(_here));
            Assert.NotEmpty(BackupSets.Verify(healed.Kept));
            File.Delete(healed.Kept);
        }
        Assert.Equal(_sound, File.ReadAllBytes(_there));
        Assert.Single(Directory.GetFileSystemEntries(_folder["here"]));
    }

    [Theory]
    [InlineData(0)]
    [InlineData(600)]
    [InlineData(4000)]
    public void A_set_that_is_cut_off_is_healed(int length)
    {
        File.WriteAllBytes(_here, _sound[..length]);
        Assert.True(SetHealing.Heal(_volume, _here, [_there]).IsHealed);
        Assert.Equal(_sound, File.ReadAllBytes(_here));
    }

    [Fact]
    public void Two_copies_that_are_damaged_at_different_members_make_a_whole_one()
    {
        // The packed content of each member begins with zstd's magic number.
        int[] members = [.. Enumerable.Range(0, _sound.Length - 4).Where(at => _sound.AsSpan(at, 4).SequenceEqual((byte[])[0x28, 0xB5, 0x2F, 0xFD]))];
        Flip(_here, members[0] + 30);
        Flip(_there, members[^1] + 9);
        HealResult healed = SetHealing.Heal(_volume, _here, [_there]);
        Assert.True(healed.IsHealed);
        Assert.Equal([_here, _there], healed.From);
        Assert.Equal(_sound, File.ReadAllBytes(_here));
        Assert.True(SetHealing.Heal(_volume, _there, [_here]).IsHealed);
        Assert.Equal(_sound, File.ReadAllBytes(_there));
    }

    [Fact]
    public void What_no_copy_has_whole_is_named_and_nothing_is_changed()
    {
        int store = _sound.AsSpan().IndexOf((byte[])[0x28, 0xB5, 0x2F, 0xFD]);
        Flip(_here, store + 30);
        Flip(_there, store + 40);
        byte[] before = File.ReadAllBytes(_here);
        HealResult healed = SetHealing.Heal(_volume, _here, [_there]);
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
            try { SetHealing.Heal(volume, _here, [_there]); }
            catch (IOException) { /* reported, as it should be */ }
            fired = volume.FaultsFired;
            byte[][] there = [.. Directory.GetFiles(_folder["here"], "ABC.tar*").Select(File.ReadAllBytes)];
            Assert.Contains(there, bytes => bytes.AsSpan().SequenceEqual(damaged) || bytes.AsSpan().SequenceEqual(_sound));
            if (File.Exists(_here)) Assert.Contains(File.ReadAllBytes(_here), (byte[][])[damaged, _sound]);
        }
        Assert.Equal(_sound, File.ReadAllBytes(_here));
    }

    private BackupSetInfo Set(string place, int day, string company = "ABC") =>
        new(_folder[$"{place}/{company}-{day}.tar"], 100, BackupSets.ReadInfo(_here).Manifest with { Company = company, MadeAt = new DateTimeOffset(2026, 1, day, 0, 0, 0, TimeSpan.Zero) });

    private static Dictionary<string, SetProof> Proved(params BackupSetInfo[] sets) => sets.ToDictionary(set => set.Path, set => new SetProof(set.Manifest.MadeAt, set.Path, 100, []));

    private static string[] Gone(IEnumerable<TidyDecision> decisions) => [.. decisions.Where(decision => decision.Goes).Select(decision => Path.GetFileNameWithoutExtension(decision.Set.Path))];

    [Fact]
    public void The_newest_of_each_place_and_the_last_proved_of_a_company_stay()
    {
        BackupSetInfo[] sets = [Set("here", 1), Set("here", 2), Set("here", 3), Set("there", 1), Set("there", 2), Set("here", 1, "XYZ")];
        Assert.Equal(["ABC-1", "ABC-2", "ABC-1"], Gone(SetTidying.Decide(sets, Proved([.. sets]), [], 1)));
        Assert.Equal(["ABC-1"], Gone(SetTidying.Decide(sets, Proved([.. sets]), [], 2)));
        // Only the first of them was ever proved, so it stays although it is the oldest; a proof of another size is none.
        IReadOnlyList<TidyDecision> decisions = SetTidying.Decide(sets, Proved(sets[0]), [], 1);
        Assert.Equal(["ABC-2", "ABC-1"], Gone(decisions));
        Assert.Contains(decisions, decision => decision.Set == sets[0] && decision.Because.Contains("last of its company that is proved", StringComparison.Ordinal));
        Assert.Equal(["ABC-1", "ABC-2", "ABC-1"], Gone(SetTidying.Decide(sets, new Dictionary<string, SetProof> { [sets[0].Path] = new SetProof(default, sets[0].Path, 99, []) }, [], 1)));
    }

    [Fact]
    public void A_set_that_an_unfinished_run_goes_by_stays()
    {
        BackupSetInfo[] sets = [Set("here", 1), Set("here", 2)];
        var runs = new OfficeRuns(new OfficeDescription("Office", _folder.Path, [], [], 0), _volume);
        Run run = runs.Begin("restore", [], "test", new Dictionary<string, string> { ["ABC.set"] = sets[0].Path });
        Assert.Empty(Gone(SetTidying.Decide(sets, Proved([.. sets]), runs.List(), 1)));
        run.Journal.Append("", Stages.Run, "ended");
        Assert.Equal(["ABC-1"], Gone(SetTidying.Decide(sets, Proved([.. sets]), runs.List(), 1)));
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
}
