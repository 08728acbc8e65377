using Transferra.Core.Backup;
using Transferra.Core.Machine;
using Transferra.Core.Matching;
using Transferra.Core.Office;
using Transferra.Core.Records;
using Transferra.Tests;

namespace Transferra.Core.Tests;

public sealed class BackupSetTests : IDisposable
{
    private readonly TempFolder _folder = new();
    private readonly DiskVolume _volume = new();
    private readonly Company _company;
    private readonly OfficeDescription _office;
    private readonly string _set;
    private readonly SetPlaces _sets;

    public BackupSetTests()
    {
        _folder.Write("data/books.db", string.Concat(Enumerable.Range(0, 3000).Select(i => $"record {i * 7919 % 1009};")));
        _folder.Write("data/docs/sub/ünïcode name.txt", "a document");
        _folder.Write("data/docs/empty.txt", "");
        _company = new Company("ABC", "A firm", SampleKit.Load(), "2", new StoreAddress("memory", _folder["data/books.db"]), null,
            [_folder["data/docs"]],
            new Dictionary<string, string>());
        _office = new OfficeDescription("Office", _folder.Path, [], BackupPlan.In(), 0);
        _set = _folder["set.tar"];
        _sets = SetPlaces.Local([_folder.Path], _volume);
    }

    public void Dispose() => _folder.Dispose();

    private SetManifest Write(IVolume? volume = null)
    {
        SetWriting.Write(_office, _company, volume ?? _volume, _set);
        return SetWriting.ManifestOf(_set);
    }

    [Fact]
    public void A_set_is_complete_in_itself_and_unpacks_to_the_same_bytes()
    {
        SetManifest manifest = Write();
        Assert.Equal(["store/books.db", "documents/0", "documents/0/empty.txt", "documents/0/sub", "documents/0/sub/ünïcode name.txt"],
            manifest.Members.Select(member => member.Name));
        Assert.Empty(BackupSets.Verify(_set));
        Assert.Empty(SetWriting.Unpack(_set, _folder["out"]));
        Assert.Equal(File.ReadAllBytes(_folder["data/books.db"]), File.ReadAllBytes(_folder["out/store/books.db"]));
        Assert.Equal("a document", File.ReadAllText(_folder["out/documents/0/sub/ünïcode name.txt"]));
        Assert.Equal(File.GetLastWriteTimeUtc(_folder["data/books.db"]), File.GetLastWriteTimeUtc(_folder["out/store/books.db"]));
    }

    [Fact]
    public void Any_flipped_byte_is_noticed_also_in_headers_and_padding()
    {
        Write();
        byte[] sound = File.ReadAllBytes(_set);
        string flipped = _folder["flipped.tar"];
        for (int at = 0; at < sound.Length; at += 37)
        {
            byte[] bytes = [.. sound];
            bytes[at] ^= 0x40;
            File.WriteAllBytes(flipped, bytes);
            Assert.True(BackupSets.Verify(flipped).Count > 0, $"the byte at {at} of {sound.Length} was changed and nobody noticed");
        }
    }

    [Fact]
    public void A_damaged_member_is_named()
    {
        Write();
        byte[] bytes = File.ReadAllBytes(_set);
        int zstd = bytes.AsSpan().IndexOf((byte[])[0x28, 0xB5, 0x2F, 0xFD]); // the magic number of the first member, the store
        bytes[zstd + 40] ^= 1;
        File.WriteAllBytes(_set, bytes);
        SetFault fault = Assert.Single(BackupSets.Verify(_set));
        Assert.Equal(("damaged", "store/books.db"), (fault.Code, fault.Member));
    }

    [Fact]
    public void A_set_cut_off_anywhere_is_noticed()
    {
        Write();
        byte[] sound = File.ReadAllBytes(_set);
        for (int length = 0; length < sound.Length; length += 211)
        {
            File.WriteAllBytes(_set, sound[..length]);
            Assert.NotEmpty(BackupSets.Verify(_set));
        }
    }

    [Fact]
    public void Something_behind_the_end_is_noticed()
    {
        Write();
        using (FileStream file = File.Open(_set, FileMode.Append)) file.WriteByte(7);
        Assert.Equal("length", Assert.Single(BackupSets.Verify(_set)).Code);
    }

    [Fact]
    public void A_member_name_that_leads_out_of_the_folder_is_refused()
    {
        Write();
        // A set that was forged with care: manifest, headers and seal all say ../../ where they said store/.
        SetWriting.Forge(_set, "store/books.db", "../../books.db");
        Assert.Contains("leads out of the folder", Assert.Single(SetWriting.Unpack(_set, _folder["deep/er/out"])).What,
            StringComparison.Ordinal);
        Assert.False(File.Exists(_folder["deep/books.db"]));
    }

    [Fact]
    public void Broken_off_at_any_operation_there_is_no_file_that_looks_like_a_set_but_is_none()
    {
        for (int n = 1, fired = 1; fired > 0; n++)
        {
            File.Delete(_set);
            var volume = new FaultyVolume(_volume, n, fault: () => new IOException("disk"));
            try { Write(volume); }
            catch (IOException) { /* reported, as it should be */ }
            fired = volume.FaultsFired;
            if (File.Exists(_set)) Assert.Empty(BackupSets.Verify(_set));
        }
        File.Delete(_set);
        Write(); // what was left lying about is not a hindrance
        Assert.Empty(BackupSets.Verify(_set));
        Assert.Equal(["data", "set.tar", "transferra"], Directory.EnumerateFileSystemEntries(_folder.Path)
            .Select(path => Path.GetFileName(path)!).Order());
    }

    [Fact]
    public void Records_that_differ_from_the_baseline_are_told()
    {
        SetManifest manifest = Write();
        Assert.Empty(BackupSets.CompareRecords(manifest, [new TableBaseline("T", 3, 0, "00")]));
        Assert.Equal("records", Assert.Single(BackupSets.CompareRecords(manifest, [new TableBaseline("T", 3, 0, "01")])).Code);
        Assert.Equal("records", Assert.Single(BackupSets.CompareRecords(manifest, [])).Code);
    }

    [Fact]
    public void What_is_no_set_is_refused_in_words()
    {
        string file = _folder.Write("other.tar", "this is not a tar");
        Assert.Contains("is not a backup set", Assert.Throws<TransferraException>(() => _sets.Read(file)).Message,
            StringComparison.Ordinal);
        Assert.Contains("not there", Assert.Throws<TransferraException>(() => _sets.Read(_folder["none.tar"])).Message,
            StringComparison.Ordinal);
        Assert.Empty(_sets.List());
    }
}
