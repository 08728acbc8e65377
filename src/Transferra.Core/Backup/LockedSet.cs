// LockedSet.cs: a set under a passphrase: the tar in chunks, each encrypted and authenticated by itself, behind a header that says how.
// Layout: docs/backup-sets.md.
// Why chunks: any part is read without the rest, damage is located, and a damaged chunk is healed from another copy.
// Sources: AES-GCM: NIST SP 800-38D; Argon2id: RFC 9106; HKDF: RFC 5869.
// Holds: (1) a changed, moved, missing or foreign chunk is never taken for a good one: each is bound to its position, to being the last
// or not, and to the header;
// (2) no two chunks are ever encrypted with the same key and nonce: each set has a key of its own from a salt of its own, and each chunk
// is written once;
//        (3) a wrong passphrase and a changed header are told apart.
using System.Buffers.Binary;
using System.Globalization;
using System.Security.Cryptography;
using System.Text;
using System.Text.Json;
using Microsoft.Win32.SafeHandles;
using Org.BouncyCastle.Crypto.Generators;
using Org.BouncyCastle.Crypto.Parameters;
using Transferra.Core.Machine;

namespace Transferra.Core.Backup;

/// <summary>A locked set cannot be opened with what is at hand; nothing is known of its state by that.</summary>
/// <param name="what">What.</param>
/// <param name="next">What to do.</param>
public sealed class SetLockedException(string what, string next) : TransferraException(what, next);

/// <summary>The passphrase of locked sets, asked for when the first one is met and kept in memory only.</summary>
/// <param name="ask">Gives it; null when there is none.</param>
public sealed class SetSecret(Func<string?> ask)
{
    private readonly Dictionary<string, byte[]> _keys = [];
    private readonly Lock _lock = new();
    private string? _passphrase;

    /// <summary>The passphrase.</summary>
    /// <exception cref="TransferraException">There is none.</exception>
    public string Passphrase => _passphrase ??= ask()
        ?? throw new SetLockedException("there is no passphrase for locked sets",
        "Name the file that holds it with locked-with under backup in office.yaml, or set TRANSFERRA_PASSPHRASE.");

    private const int ShortestForNewSets = 12;

    /// <summary>The passphrase, when it is fit for new sets.</summary>
    /// <exception cref="TransferraException">There is none, or it is short.</exception>
    public string CheckForNewSets() => Passphrase.Length >= ShortestForNewSets ? Passphrase
        : throw new TransferraException($"the passphrase for new sets is shorter than {ShortestForNewSets} characters",
            "Use several words that do not belong together; a long passphrase need not be complicated.");

    // A key takes a second to be worked out, by intent; the copies of a set in several places share theirs.
    internal byte[] KeyOf(LockedHeader header)
    {
        lock (_lock)
        {
            string salt = Convert.ToHexString(header.Salt);
            if (!_keys.TryGetValue(salt, out byte[]? key)) _keys[salt] = key = header.DeriveKey(Passphrase);
            return key;
        }
    }
}

/// <summary>The first bytes of a locked set.</summary>
internal sealed class LockedHeader
{
    public const int Bytes = 4096, ChunkBytes = 1 << 16, TagBytes = 16;

    private const int DigestBytes = 32, DigestAt = Bytes - DigestBytes, LabelAt = 68, CheckBytes = 16, SaltBytes = 16;

    // The second of the choices that RFC 9106 recommends, for where memory is scarce: 64 MiB, 3 passes, 4 lanes.
    private const int MemoryKibibytes = 1 << 16, Passes = 3, Lanes = 4;

    // A forged header must not make a reader spend more than this: four times the memory of a set of ours, and sixteen times its time.
    private const int MostKibibytes = 4 * MemoryKibibytes, MostLanes = 16, LeastKibibytesPerLane = 8;

    private const long MostWork = 16L * MemoryKibibytes * Passes;

    private static readonly byte[] Magic = Encoding.ASCII.GetBytes("transferra-lock1");

    private readonly byte[] _raw;

    private LockedHeader(byte[] raw) => _raw = raw;

    public byte[] Salt => _raw[32..(32 + SaltBytes)];

    public ReadOnlySpan<byte> Raw => _raw;

    /// <summary>What every chunk is bound to.</summary>
    public ReadOnlySpan<byte> Digest => _raw.AsSpan(DigestAt);

    public SetLabel Label { get; private set; } = null!;

    /// <summary>Whether a file begins as locked sets do.</summary>
    public static bool IsAt(ISetFile file)
    {
        byte[] start = new byte[Magic.Length];
        return file.ReadAt(0, start) == start.Length && start.AsSpan().SequenceEqual(Magic);
    }

    /// <summary>A header for a new set.</summary>
    public static (LockedHeader Header, byte[] Key) New(SetLabel label, string passphrase)
    {
        byte[] raw = new byte[Bytes], text = JsonSerializer.SerializeToUtf8Bytes(label, BackupJson.Default.SetLabel);
        if (text.Length > DigestAt - LabelAt)
            throw new TransferraException("the names of office, company and package are too long for a locked set",
                "Shorten the office's name in office.yaml.");
        Magic.CopyTo(raw, 0);
        BinaryPrimitives.WriteInt32LittleEndian(raw.AsSpan(16), ChunkBytes);
        BinaryPrimitives.WriteInt32LittleEndian(raw.AsSpan(20), MemoryKibibytes);
        BinaryPrimitives.WriteInt32LittleEndian(raw.AsSpan(24), Passes);
        BinaryPrimitives.WriteInt32LittleEndian(raw.AsSpan(28), Lanes);
        RandomNumberGenerator.Fill(raw.AsSpan(32, SaltBytes));
        BinaryPrimitives.WriteInt32LittleEndian(raw.AsSpan(64), text.Length);
        text.CopyTo(raw, LabelAt);
        var header = new LockedHeader(raw) { Label = label };
        byte[] key = header.DeriveKey(passphrase, check: false);
        CheckOf(key).CopyTo(raw, 48);
        SHA256.HashData(raw.AsSpan(0, DigestAt)).CopyTo(raw, DigestAt);
        return (header, key);
    }

    /// <summary>Reads a header.</summary>
    /// <exception cref="InvalidDataException">It was changed.</exception>
    public static LockedHeader Read(ISetFile file)
    {
        byte[] raw = new byte[Bytes];
        if (file.ReadAt(0, raw) < Bytes || !SHA256.HashData(raw.AsSpan(0, DigestAt)).AsSpan().SequenceEqual(raw.AsSpan(DigestAt)))
            throw new InvalidDataException("the header of the locked set was changed or cut off");
        int length = BinaryPrimitives.ReadInt32LittleEndian(raw.AsSpan(64));
        if (BinaryPrimitives.ReadInt32LittleEndian(raw.AsSpan(16)) != ChunkBytes || length < 0 || length > DigestAt - LabelAt)
            throw new InvalidDataException("the header of the locked set has a form that this program does not know");
        JudgeCost(raw);
        try
        {
            return new LockedHeader(raw)
            {
                Label = JsonSerializer.Deserialize(raw.AsSpan(LabelAt, length),
                    BackupJson.Default.SetLabel) is { Company: not null } label
                    ? label : throw new InvalidDataException("the locked set has no label")
            };
        }
        catch (JsonException error)
        {
            throw new InvalidDataException("the label of the locked set cannot be read", error);
        }
    }

    /// <summary>The key of the set's chunks.</summary>
    /// <exception cref="TransferraException">The passphrase is not the one it was locked with.</exception>
    public byte[] DeriveKey(string passphrase) => DeriveKey(passphrase, check: true);

    // RFC 9106, 3.1: at least eight blocks of a KiB for each lane. Whoever lists sets would otherwise wait for hours at the word of a
    // file that anybody may have put there.
    private static void JudgeCost(byte[] raw)
    {
        (int memory, int passes, int lanes) = Cost(raw);
        if (lanes is <= 0 or > MostLanes || passes <= 0 || memory < LeastKibibytesPerLane * lanes || memory > MostKibibytes
            || (long)memory * passes > MostWork)
            throw new InvalidDataException("the header of the locked set asks for more memory or time than any set needs");
    }

    private static (int Memory, int Passes, int Lanes) Cost(byte[] raw) => (BinaryPrimitives.ReadInt32LittleEndian(raw.AsSpan(20)),
        BinaryPrimitives.ReadInt32LittleEndian(raw.AsSpan(24)), BinaryPrimitives.ReadInt32LittleEndian(raw.AsSpan(28)));

    private byte[] DeriveKey(string passphrase, bool check)
    {
        (int memory, int passes, int lanes) = Cost(_raw);
        // The same letters typed on two keyboards may be other bytes; the composed form is the one that counts.
        byte[] secret = Encoding.UTF8.GetBytes(passphrase.Normalize(NormalizationForm.FormC)), master = new byte[32];
        var argon = new Argon2BytesGenerator();
        argon.Init(new Argon2Parameters.Builder(Argon2Parameters.Argon2id).WithVersion(Argon2Parameters.Version13).WithSalt(Salt)
            .WithMemoryAsKB(memory).WithIterations(passes).WithParallelism(lanes).Build());
        argon.GenerateBytes(secret, master);
        CryptographicOperations.ZeroMemory(secret);
        if (check && !CryptographicOperations.FixedTimeEquals(CheckOf(master), _raw.AsSpan(48, CheckBytes)))
            throw new SetLockedException("the passphrase is not the one that the set was locked with",
                "Each set opens with the passphrase of the time it was made; look at the recovery sheet of that time.");
        return master;
    }

    private static byte[] CheckOf(byte[] master) => HKDF.Expand(HashAlgorithmName.SHA256, master, CheckBytes,
        "transferra lock check"u8.ToArray());

    /// <summary>The key of the chunks, from what the passphrase gives.</summary>
    public static byte[] ChunkKey(byte[] master) => HKDF.Expand(HashAlgorithmName.SHA256, master, 32, "transferra lock chunks"u8.ToArray());

    /// <summary>The nonce of a chunk: its number, and whether it is the last.</summary>
    public static void WriteNonce(Span<byte> nonce, long chunk, bool isLast)
    {
        nonce.Clear();
        BinaryPrimitives.WriteInt64LittleEndian(nonce, chunk);
        nonce[8] = isLast ? (byte)1 : (byte)0;
    }

    /// <summary>Where a chunk is in the file.</summary>
    public static long ChunkAt(long chunk) => Bytes + (chunk * (ChunkBytes + TagBytes));
}

/// <summary>What a locked set holds, read at any position.</summary>
internal sealed class LockedSetFile : ISetFile
{
    private readonly ISetFile _inner;
    private readonly LockedHeader _header;
    private readonly byte[] _key;
    private readonly long _chunks;
    private readonly System.Collections.Concurrent.ConcurrentBag<AesGcm> _idle = [];

    /// <summary>Opens a locked set.</summary>
    public LockedSetFile(ISetFile inner, SetSecret secret) : this(inner, LockedHeader.Read(inner), secret) { }

    /// <summary>Opens a locked set whose header is known from one of its copies.</summary>
    public LockedSetFile(ISetFile inner, LockedHeader header, SetSecret secret)
    {
        _inner = inner;
        _header = header;
        _key = LockedHeader.ChunkKey(secret.KeyOf(_header));
        long body = inner.Length - LockedHeader.Bytes;
        _chunks = (body + LockedHeader.ChunkBytes + LockedHeader.TagBytes - 1) / (LockedHeader.ChunkBytes + LockedHeader.TagBytes);
        Length = Math.Max(0, body - (_chunks * LockedHeader.TagBytes));
    }

    /// <inheritdoc/>
    public long Length { get; }

    /// <summary>How many chunks there are.</summary>
    public long Chunks => _chunks;

    /// <inheritdoc/>
    public void ForgetCached() => _inner.ForgetCached();

    /// <summary>Reads one chunk as it is stored; null when it is not the one that was written.</summary>
    /// <param name="chunk">Its number.</param>
    /// <param name="chunksInAll">Of the set that was written, which decides which chunk is the last.</param>
    public byte[]? StoredChunk(long chunk, long chunksInAll)
    {
        byte[] stored = new byte[LockedHeader.ChunkBytes + LockedHeader.TagBytes], plain = new byte[LockedHeader.ChunkBytes];
        int read = _inner.ReadAt(LockedHeader.ChunkAt(chunk), stored);
        return read >= LockedHeader.TagBytes && Open(chunk, chunk == chunksInAll - 1, stored.AsSpan(0, read), plain) ? stored[..read]
            : null;
    }

    /// <inheritdoc/>
    public int ReadAt(long position, Span<byte> buffer)
    {
        byte[] stored = new byte[LockedHeader.ChunkBytes + LockedHeader.TagBytes], plain = new byte[LockedHeader.ChunkBytes];
        int done = 0;
        while (done < buffer.Length && position < Length)
        {
            long chunk = position / LockedHeader.ChunkBytes;
            int within = (int)(position % LockedHeader.ChunkBytes), read = _inner.ReadAt(LockedHeader.ChunkAt(chunk), stored),
                length = read - LockedHeader.TagBytes;
            if (length < 0 || !Open(chunk, chunk == _chunks - 1, stored.AsSpan(0, read), plain))
                throw new InvalidDataException(string.Create(CultureInfo.InvariantCulture,
                    $"chunk {chunk + 1} of {_chunks} is not the one that was written"));
            int part = Math.Min(buffer.Length - done, length - within);
            plain.AsSpan(within, part).CopyTo(buffer[done..]);
            done += part;
            position += part;
        }
        return done;
    }

    private bool Open(long chunk, bool isLast, ReadOnlySpan<byte> stored, Span<byte> plain)
    {
        Span<byte> nonce = stackalloc byte[12];
        LockedHeader.WriteNonce(nonce, chunk, isLast);
        if (!_idle.TryTake(out AesGcm? aes)) aes = new AesGcm(_key, LockedHeader.TagBytes);
        try
        {
            int length = stored.Length - LockedHeader.TagBytes;
            aes.Decrypt(nonce, stored[..length], stored[length..], plain[..length], _header.Digest);
            return true;
        }
        catch (AuthenticationTagMismatchException)
        {
            return false;
        }
        finally
        {
            _idle.Add(aes);
        }
    }

    /// <inheritdoc/>
    public void Dispose()
    {
        while (_idle.TryTake(out AesGcm? aes)) aes.Dispose();
        _inner.Dispose();
    }
}

/// <summary>A new set that is locked while it is written. Chunks with room that is not filled yet wait in memory.</summary>
internal sealed class LockedSink : ISetSink
{
    private const int CopyBytes = 1 << 20;
    private readonly SafeFileHandle _file;
    private readonly WriteBehind _behind;
    private readonly LockedHeader _header;
    private readonly AesGcm _aes;
    private readonly byte[] _sealed = new byte[LockedHeader.ChunkBytes + LockedHeader.TagBytes];

    // Chunks that are not written yet: those with room left in them, and the one bytes are being added to.
    private readonly Dictionary<long, Waiting> _waiting = [];
    private long _end;

    private sealed class Waiting
    {
        public byte[] Plain { get; } = new byte[LockedHeader.ChunkBytes];

        public int Room { get; set; }
    }

    /// <summary>Begins a locked set in a file that must not be there.</summary>
    public LockedSink(string path, SetLabel label, string passphrase)
    {
        (_header, byte[] key) = LockedHeader.New(label, passphrase);
        _aes = new AesGcm(LockedHeader.ChunkKey(key), LockedHeader.TagBytes);
        _file = File.OpenHandle(path, FileMode.CreateNew, FileAccess.ReadWrite, FileShare.Read);
        _behind = new WriteBehind(_file);
        RandomAccess.Write(_file, _header.Raw, 0);
    }

    public void Append(ReadOnlySpan<byte> bytes)
    {
        while (!bytes.IsEmpty)
        {
            int within = (int)(_end % LockedHeader.ChunkBytes), part = Math.Min(bytes.Length, LockedHeader.ChunkBytes - within);
            bytes[..part].CopyTo(ChunkFor(_end).Plain.AsSpan(within));
            bytes = bytes[part..];
            Advance(part);
        }
    }

    public void AppendFrom(ISetFile source, long position, long bytes) => Sinks.Copy(source, position, bytes, CopyBytes, Append);

    public long Leave(int bytes)
    {
        long at = _end;
        while (bytes > 0)
        {
            int part = Math.Min(bytes, LockedHeader.ChunkBytes - (int)(_end % LockedHeader.ChunkBytes));
            ChunkFor(_end).Room += part;
            bytes -= part;
            Advance(part);
        }
        return at;
    }

    public void Fill(long position, ReadOnlySpan<byte> bytes)
    {
        while (!bytes.IsEmpty)
        {
            int within = (int)(position % LockedHeader.ChunkBytes), part = Math.Min(bytes.Length, LockedHeader.ChunkBytes - within);
            Waiting chunk = ChunkFor(position);
            bytes[..part].CopyTo(chunk.Plain.AsSpan(within));
            chunk.Room -= part;
            WriteIfDone(position / LockedHeader.ChunkBytes);
            bytes = bytes[part..];
            position += part;
        }
    }

    private Waiting ChunkFor(long position)
    {
        long number = position / LockedHeader.ChunkBytes;
        if (!_waiting.TryGetValue(number, out Waiting? chunk)) _waiting[number] = chunk = new Waiting();
        return chunk;
    }

    private void Advance(int bytes)
    {
        long before = _end / LockedHeader.ChunkBytes;
        _end += bytes;
        // A chunk that ends just here may still be the last; it is written when a byte stands behind it.
        WriteIfDone(before);
        if (before > 0) WriteIfDone(before - 1);
    }

    private void WriteIfDone(long number)
    {
        if (_end > (number + 1) * LockedHeader.ChunkBytes && _waiting.TryGetValue(number, out Waiting? chunk) && chunk.Room == 0)
            Write(number, chunk, LockedHeader.ChunkBytes, isLast: false);
    }

    private void Write(long number, Waiting chunk, int length, bool isLast)
    {
        Span<byte> nonce = stackalloc byte[12];
        LockedHeader.WriteNonce(nonce, number, isLast);
        _aes.Encrypt(nonce, chunk.Plain.AsSpan(0, length), _sealed.AsSpan(0, length), _sealed.AsSpan(length, LockedHeader.TagBytes),
            _header.Digest);
        long at = LockedHeader.ChunkAt(number);
        RandomAccess.Write(_file, _sealed.AsSpan(0, length + LockedHeader.TagBytes), at);
        _waiting.Remove(number);
        _behind.Wrote(at, length + LockedHeader.TagBytes);
    }

    public void Finish()
    {
        long last = Math.Max(0, _end - 1) / LockedHeader.ChunkBytes;
        Write(last, ChunkFor(last * LockedHeader.ChunkBytes), (int)(_end - (last * LockedHeader.ChunkBytes)), isLast: true);
        if (_waiting.Count > 0) throw new InvalidOperationException("space was reserved in the set and never filled");
        _behind.Finish();
    }

    public void Dispose()
    {
        _behind.Dispose();
        _aes.Dispose();
        _file.Dispose();
    }
}
