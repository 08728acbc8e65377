using System.Buffers.Binary;
using System.Security.Cryptography;
using System.Text;
using Konscious.Security.Cryptography;
using Org.BouncyCastle.Crypto.Generators;
using Org.BouncyCastle.Crypto.Parameters;
using Transferra.Core.Backup;
using Transferra.Core.Machine;
using Transferra.Core.Office;
using Transferra.Core.Records;
using Transferra.Tests;

namespace Transferra.Core.Tests;

/// <summary>Sets under a passphrase: nothing is read without it, nothing is changed unnoticed, and what is damaged is healed.</summary>
public sealed class LockedSetTests : IDisposable
{
    private const string Passphrase = "seven green violins wait outside";
    private static readonly Lazy<(byte[] Bytes, byte[] Large)> Sound = new(Make);

    private readonly TempFolder _folder = new();
    private readonly DiskVolume _volume = new();
    private readonly SetPlaces _sets;
    private readonly string _here, _there;

    public LockedSetTests()
    {
        Directory.CreateDirectory(_folder["here"]);
        Directory.CreateDirectory(_folder["there"]);
        (_here, _there) = (_folder["here/ABC.tar.locked"], _folder["there/ABC.tar.locked"]);
        _sets = new SetPlaces([new LocalPlace(_folder["here"], _volume), new LocalPlace(_folder["there"], _volume)],
            new SetSecret(() => Passphrase), locksNewSets: true);
        File.WriteAllBytes(_here, Sound.Value.Bytes);
        File.WriteAllBytes(_there, Sound.Value.Bytes);
    }

    public void Dispose() => _folder.Dispose();

    // Made once: a key takes its time. Large enough for many chunks, some of them in the middle of a member.
    private static (byte[], byte[]) Make()
    {
        using var folder = new TempFolder();
        byte[] large = new byte[(5 << 20) + 77];
        new Random(3).NextBytes(large.AsSpan(0, 2 << 20));
        folder.Write("data/books.db", "Anna Quill earns 4,211.07");
        folder.Write("data/docs/a.txt", "a document");
        File.WriteAllBytes(folder["data/docs/large.bin"], large);
        var volume = new DiskVolume();
        var company = new Company("ABC", "A firm", SampleKit.Load(), "2", new StoreAddress("memory", folder["data/books.db"]), null,
            [folder["data/docs"]],
            new Dictionary<string, string>());
        SetWriting.Write(new OfficeDescription("Office", folder.Path, [], BackupPlan.In(), 0), company, volume, folder["set.tar.locked"],
            sets: new SetPlaces([new LocalPlace(folder.Path, volume)], new SetSecret(() => Passphrase), locksNewSets: true));
        return (File.ReadAllBytes(folder["set.tar.locked"]), large);
    }

    private HealResult Heal() => SetHealing.Heal(_volume, _sets, _here, [_there], _folder["scratch"],
        new OfficeIdentity("0123456789abcdef"));

    private IReadOnlyList<SetFault> Verify(string path)
    {
        using ISetFile file = _sets.Open(path);
        return BackupSets.Verify(file);
    }

    [Fact]
    public void It_is_read_with_the_passphrase_and_tells_nothing_without_it()
    {
        Assert.Empty(Verify(_here));
        using (ISetFile file = _sets.Open(_here)) Assert.Empty(BackupSets.Unpack(file, _folder["out"],
            cancel: TestContext.Current.CancellationToken));
        Assert.Equal(Sound.Value.Large, File.ReadAllBytes(_folder["out/documents/0/large.bin"]));
        Assert.Equal("Anna Quill earns 4,211.07", File.ReadAllText(_folder["out/store/books.db"]));
        // Whose it is and when it was made is told to anybody who lists sets; names of files and contents are not.
        ListedSet listed = SetPlaces.Local([_folder["here"]], _volume).List().Single();
        Assert.Equal(("ABC", true), (listed.Label.Company, listed.IsLocked));
        foreach (string hidden in (string[])["Anna", "books.db", "manifest", "documents", "\u0028\u00B5/\u00FD"])
            Assert.Equal(-1, Sound.Value.Bytes.AsSpan().IndexOf(Encoding.Latin1.GetBytes(hidden)));
        var none = Assert.Throws<SetLockedException>(() => SetPlaces.Local([_folder["here"]], _volume).Read(_here));
        Assert.Contains("locked-with", none.Next, StringComparison.Ordinal);
    }

    [Fact]
    public void A_wrong_passphrase_and_a_changed_set_are_told_apart()
    {
        var other = new SetPlaces(_sets.Places, new SetSecret(() => Passphrase + "."));
        Assert.Contains("not the one that the set was locked with", Assert.Throws<SetLockedException>(() => other.Open(_here)).Message,
            StringComparison.Ordinal);
        // Every part of the header: magic number and form, cost, salt, check, label, filling, digest.
        foreach (int at in (int[])[17, 21, 25, 29, 33, 47, 49, 63, 64, 70, 2000, 4063, 4064, 4095])
        {
            byte[] bytes = [.. Sound.Value.Bytes];
            bytes[at] ^= 1;
            File.WriteAllBytes(_here, bytes);
            var error = Assert.Throws<TransferraException>(() => _sets.Open(_here));
            Assert.IsNotType<SetLockedException>(error);
            Assert.Contains("header of the locked set was changed", error.Message, StringComparison.Ordinal);
        }
    }

    // Memory in KiB, passes, lanes: each judged before it is obeyed, and beside it the other sets are listed and opened.
    [Theory]
    [InlineData(31, 3, 4)]
    [InlineData(0, 3, 4)]
    [InlineData(-65536, 3, 4)]
    [InlineData(1 << 21, 1, 4)]
    [InlineData(65536, 100_000, 4)]
    [InlineData(65536, -1, 4)]
    [InlineData(262144, 13, 4)]
    [InlineData(65536, 3, 0)]
    [InlineData(65536, 3, 8192)]
    public void A_header_that_asks_for_absurd_work_is_refused_unobeyed(int memory, int passes, int lanes)
    {
        byte[] bytes = [.. Sound.Value.Bytes];
        BinaryPrimitives.WriteInt32LittleEndian(bytes.AsSpan(20), memory);
        BinaryPrimitives.WriteInt32LittleEndian(bytes.AsSpan(24), passes);
        BinaryPrimitives.WriteInt32LittleEndian(bytes.AsSpan(28), lanes);
        SHA256.HashData(bytes.AsSpan(0, LockedHeader.Bytes - 32)).CopyTo(bytes, LockedHeader.Bytes - 32);
        string forged = _folder["here/FORGED.tar.locked"];
        File.WriteAllBytes(forged, bytes);
        var asked = new SetPlaces(_sets.Places, new SetSecret(() => throw new InvalidOperationException("the passphrase was asked for")));
        Assert.Contains("asks for more memory or time than any set needs",
            Assert.Throws<TransferraException>(() => asked.Open(forged)).Message, StringComparison.Ordinal);
        Assert.DoesNotContain(_sets.List(), set => set.Path == forged);
        Assert.Contains(_sets.List(), set => set.Path == _here);
        Assert.Empty(Verify(_here));
    }

    [Fact]
    public void Any_changed_byte_is_noticed_located_and_healed()
    {
        byte[] sound = Sound.Value.Bytes;
        for (int sample = 0; sample < 60; sample++)
        {
            int at = LockedHeader.Bytes + (int)((long)sample * (sound.Length - LockedHeader.Bytes) / 60);
            byte[] bytes = [.. sound];
            bytes[at] ^= 8;
            File.WriteAllBytes(_here, bytes);
            Assert.NotEmpty(Verify(_here));
            if (sample % 10 > 0) continue;
            Assert.True(Heal().IsHealed);
            Assert.Equal(sound, File.ReadAllBytes(_here));
        }
        // Also where the manifest is, and at the end: told in words, and healed.
        foreach (int at in (int[])[LockedHeader.Bytes + 700, sound.Length - 700])
        {
            byte[] bytes = [.. sound];
            bytes[at] ^= 8;
            File.WriteAllBytes(_here, bytes);
            Assert.NotEmpty(Verify(_here));
            if (at < sound.Length / 2)
                Assert.Contains("is not a backup set, or its beginning is damaged",
                    Assert.Throws<TransferraException>(() => _sets.Read(_here)).Message,
                    StringComparison.Ordinal);
            else Assert.NotEmpty(_sets.Read(_here).Manifest.Members);
            Assert.True(Heal().IsHealed);
        }
        // In the middle of the file only the large document is touched.
        byte[] middle = [.. sound];
        middle[sound.Length / 2] ^= 8;
        File.WriteAllBytes(_here, middle);
        Assert.Equal("documents/0/large.bin", Assert.Single(Verify(_here)).Member);
    }

    [Fact]
    public void Chunks_that_changed_places_are_missing_or_come_from_elsewhere_are_noticed_and_healed()
    {
        const int stored = LockedHeader.ChunkBytes + LockedHeader.TagBytes;
        byte[] sound = Sound.Value.Bytes, swapped = [.. sound];
        sound.AsSpan(LockedHeader.Bytes + stored, stored).CopyTo(swapped.AsSpan(LockedHeader.Bytes + (2 * stored)));
        sound.AsSpan(LockedHeader.Bytes + (2 * stored), stored).CopyTo(swapped.AsSpan(LockedHeader.Bytes + stored));
        byte[][] damaged = [swapped, sound[..(LockedHeader.Bytes + (5 * stored))], sound[..^1], [.. sound, 0],
            [.. sound.AsSpan(0, LockedHeader.Bytes + stored), .. sound.AsSpan(LockedHeader.Bytes + (2 * stored))]];
        foreach (byte[] bytes in damaged)
        {
            File.WriteAllBytes(_here, bytes);
            Assert.NotEmpty(Verify(_here));
            Assert.True(Heal().IsHealed);
            Assert.Equal(sound, File.ReadAllBytes(_here));
        }
    }

    [Fact]
    public void Copies_that_are_all_damaged_make_a_whole_one_and_a_chunk_that_none_has_is_named()
    {
        byte[] sound = Sound.Value.Bytes, first = [.. sound], second = [.. sound];
        first[100] ^= 1; // its header
        first[^5] ^= 1;
        second[LockedHeader.Bytes + 9] ^= 1;
        File.WriteAllBytes(_here, first);
        File.WriteAllBytes(_there, second);
        HealResult healed = Heal();
        Assert.True(healed.IsHealed);
        Assert.Equal([_here, _there], healed.From);
        Assert.Equal(sound, File.ReadAllBytes(_here));
        first[LockedHeader.Bytes + 10] ^= 1;
        File.WriteAllBytes(_here, first);
        Assert.Equal("chunk 1 of", Heal().Missing[0][..10]);
    }

    /// <summary>The test vector of RFC 9106, section 5.3.</summary>
    [Fact]
    public void Argon2id_is_the_one_of_the_standard()
    {
        static byte[] filled(byte value, int count) => [.. Enumerable.Repeat(value, count)];
        var argon = new Argon2BytesGenerator();
        argon.Init(new Argon2Parameters.Builder(Argon2Parameters.Argon2id).WithVersion(Argon2Parameters.Version13)
            .WithSalt(filled(2, 16)).WithSecret(filled(3, 8)).WithAdditional(filled(4, 12)).WithMemoryAsKB(32).WithIterations(3)
            .WithParallelism(4).Build());
        byte[] tag = new byte[32];
        argon.GenerateBytes(filled(1, 32), tag);
        Assert.Equal("0d640df58d78766c08c037a34a8b53c9d01ef0452d75b65eb52520e96b01e659", Convert.ToHexStringLower(tag));
    }

    /// <summary>Opened step by step as docs/backup-sets.md tells it, without the classes that wrote it, and with an Argon2id of
    /// other people.</summary>
    [Fact]
    public void The_form_is_the_one_that_is_written_down()
    {
        byte[] set = Sound.Value.Bytes;
        Assert.Equal("transferra-lock1", Encoding.ASCII.GetString(set, 0, 16));
        Assert.Equal([65536, 65536, 3, 4], Enumerable.Range(0, 4).Select(i => BitConverter.ToInt32(set, 16 + (4 * i))));
        using var argon = new Argon2id(Encoding.UTF8.GetBytes(Passphrase))
        {
            Salt = set[32..48],
            MemorySize = 65536,
            Iterations = 3,
            DegreeOfParallelism = 4
        };
        byte[] master = argon.GetBytes(32);
        Assert.Equal(set[48..64], HKDF.Expand(HashAlgorithmName.SHA256, master, 16, Encoding.ASCII.GetBytes("transferra lock check")));
        using var aes = new AesGcm(HKDF.Expand(HashAlgorithmName.SHA256, master, 32, Encoding.ASCII.GetBytes("transferra lock chunks")),
            16);
        using var tar = new MemoryStream();
        int chunks = (set.Length - 4096 + 65551) / 65552;
        for (int i = 0; i < chunks; i++)
        {
            byte[] stored = set[(4096 + (i * 65552))..Math.Min(set.Length, 4096 + ((i + 1) * 65552))],
                plain = new byte[stored.Length - 16], nonce = new byte[12];
            BitConverter.GetBytes((long)i).CopyTo(nonce, 0);
            nonce[8] = (byte)(i == chunks - 1 ? 1 : 0);
            aes.Decrypt(nonce, stored.AsSpan(..^16), stored.AsSpan(^16..), plain, set.AsSpan(4064, 32));
            tar.Write(plain);
        }
        File.WriteAllBytes(_folder["plain.tar"], tar.ToArray());
        Assert.Empty(BackupSets.Verify(_folder["plain.tar"]));
    }

    [Fact]
    public void A_short_passphrase_is_refused()
    {
        var sets = new SetPlaces(_sets.Places, new SetSecret(() => "too short"), locksNewSets: true);
        _folder.Write("data/books.db", "x");
        var company = new Company("ABC", "A firm", SampleKit.Load(), "2", new StoreAddress("memory", _folder["data/books.db"]), null, [],
            new Dictionary<string, string>());
        Assert.Contains("shorter than 12", Assert.Throws<TransferraException>(() =>
            SetWriting.Write(new OfficeDescription("Office", _folder.Path, [], BackupPlan.In(), 0), company, _volume,
                _folder["x.tar.locked"],
            sets: sets)).Message, StringComparison.Ordinal);
        Assert.False(File.Exists(_folder["x.tar.locked"]) || Directory.Exists(_folder["ABC.packing"]));
    }
}
