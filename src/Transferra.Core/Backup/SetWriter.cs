// SetWriter.cs: packs files into a set on all cores and writes it in one go.
// Holds: (1) memory does not depend on the size of files; (2) a file that cannot be read, or is changed while it is read, is listed, and
// stops the set when it belongs to the
// store; (3) room for the manifest is left at the beginning and it always fits: whatever happens to a member, its entry does not become
// longer than was reckoned.
using System.Buffers;
using System.Globalization;
using System.IO.Hashing;
using System.Security.Cryptography;
using System.Text.Json;
using Microsoft.Win32.SafeHandles;
using Transferra.Core.Machine;
using Transferra.Core.Matching;

namespace Transferra.Core.Backup;

/// <summary>An earlier set of the same company, opened.</summary>
/// <param name="File">Its bytes.</param>
/// <param name="Manifest">Its manifest.</param>
/// <param name="BeginningBytes">Of its manifest with the header.</param>
internal sealed record EarlierSet(ISetFile File, SetManifest Manifest, long BeginningBytes)
{
    private readonly SetLayout _layout = new(Manifest, BeginningBytes);

    private readonly Dictionary<UInt128, int> _byName = ByName(Manifest.Members);

    private static Dictionary<UInt128, int> ByName(MemberCollection members)
    {
        var byName = new Dictionary<UInt128, int>(members.Count);
        for (int i = 0; i < members.Count; i++)
            if (members[i] is { IsFile: true } file) byName.TryAdd(NameDigest.Of(file.NameBytes()), i);
        return byName;
    }

    /// <summary>The member with the same content, when it is certain without reading the file; -1 when it is not.</summary>
    public int Find(SetSource source) =>
        source.Draft.Stamp is { } stamp && _byName.TryGetValue(NameDigest.Of(source.Draft.NameBytes()), out int i)
            && Manifest.Members[i] is { Changing: false } member && member.Name == source.Draft.Name
        && member.Stamp == stamp && member.Bytes == source.Stat.Bytes
            && SourceTree.ModifiedNanoseconds(member) == source.Stat.ModifiedNanoseconds ? i : -1;

    /// <summary>Whether it has everything of some sources below a name, unchanged, and nothing beside.</summary>
    public bool HasAllOf(IReadOnlyList<SetSource> sources, string below)
    {
        SetSource[] files = [.. sources.Where(source => source.Draft.IsFile && IsBelow(source.Draft.Name))];
        return files.Length == Manifest.Members.Count(member => member.IsFile && IsBelow(member.Name))
            && files.All(source => Find(source) >= 0);

        bool IsBelow(string name) => name.StartsWith(below, StringComparison.Ordinal);
    }

    /// <summary>Reads an earlier set; null when its manifest is not the one that was written.</summary>
    public static EarlierSet? From(ISetFile file)
    {
        SetBeginning beginning = SetBeginning.Read(file);
        return beginning.Manifest is { } manifest && beginning.JudgeSeal(file, beginning.Layout()) is null
            ? new EarlierSet(file, manifest, beginning.Bytes) : null;
    }

    /// <summary>Where a member's header is.</summary>
    public long HeaderAt(int member) => _layout.HeaderAt(member);

    /// <summary>Where the packed content of a member is.</summary>
    public long ContentAt(int member) => _layout.ContentAt(member);

    /// <summary>Where the next member is.</summary>
    public long EndOf(int member) => _layout.EndOf(member);
}

internal sealed class SetWriter(ISetSink sink, EarlierSet? earlier, Action<long, long> progress, CancellationToken cancel) : IDisposable
{
    private const int TriesAtMost = 3;
    private static readonly byte[] Zeros = new byte[SetLayout.Block];
    private readonly ZstdPool _frames = new();
    private readonly MemberCollection _members = [];
    private readonly List<LeftOut> _leftOut = [];
    private long _done, _total;

    // Of the large file that is being packed.
    private readonly List<int> _frameSizes = [];
    private readonly XxHash128 _quickHash = new(), _quickPlain = new();
    private IncrementalHash? _plainHash, _packedHash;
    private long _headerAt, _plainBytes, _packedBytes;

    // A run of members of the earlier set that stand there as they will stand here, and are copied in one go.
    private const long LongestRun = 64 << 20;
    private long _runAt, _runBytes;

    /// <summary>What is known of the members of the manifest from packing them.</summary>
    public PackedNotes Notes { get; } = new();

    /// <summary>Reads a part of a large file; tests put another one here.</summary>
    internal Func<SafeFileHandle, Memory<byte>, long, int> ReadAt { get; init; } = (file, buffer, position) =>
        RandomAccess.Read(file, buffer.Span, position);

    // A piece of the set: a whole member, or one frame of a large file.
    private sealed record Piece(SetSource Source)
    {
        public SetMember? Member { get; init; } // a whole member
        public byte[] Packed { get; init; } = [];
        public int PackedLength { get; init; }
        public byte[] Plain { get; init; } = []; // kept for the digest of a large file
        public int PlainLength { get; init; }
        public bool IsFirst { get; init; }
        public bool IsLast { get; init; }
        public string? Unreadable { get; init; }
        public bool Changing { get; init; }
        public UInt128? PlainDigest { get; init; }
        public int Reused { get; init; } = -1;
        public Opened? File { get; init; }
    }

    // A large file while it is read; closed when its last piece is taken.
    private sealed record Opened(SafeFileHandle Handle, FileStat Stat);

    /// <summary>Packs and writes.</summary>
    /// <param name="sources">What.</param>
    /// <param name="draft">The manifest with the sources' drafts as members, and a baseline whose entries are as long as they can
    /// become.</param>
    /// <param name="baseline">The baseline; asked for at the end.</param>
    public SetManifest Run(IReadOnlyList<SetSource> sources, SetManifest draft, Func<IReadOnlyList<TableBaseline>> baseline)
    {
        // A file that cannot be read gives its place in the list of members to its reason; only a large one can have both, when parts of
        // it cannot.
        IEnumerable<LeftOut> parts = sources.Where(source => source.Draft.IsFile && FrameCount(source.Stat.Bytes) > 1)
            .Select(source => new LeftOut(source.Draft.Name, SourceTree.LongestWhy, false));
        int beginningBytes = BeginningBytes(draft with
        {
            Members = MemberCollection.Made(sources.Count, at => AsLongAsItCanBecome(sources[at])),
            LeftOut = [.. draft.LeftOut, .. parts]
        });
        Notes.Expect(sources.Count);
        _total = sources.Sum(source => source.Draft.IsFile ? source.Stat.Bytes : 0);
        sink.Leave(beginningBytes);
        OrderedWork.Run(Pieces(sources), Take, cancel);
        CopyRun();
        SetManifest manifest = draft with
        {
            Members = _members,
            LeftOut = [.. draft.LeftOut, .. _leftOut],
            Baseline = Fitting(baseline(), draft)
        };
        using (var beginning = new FilledRoom(sink, 0, beginningBytes))
        {
            WriteBeginning(manifest, beginningBytes, beginning);
            sink.Append(SetLayout.Seal(beginning.Digest(), manifest.Label.MadeAt));
        }
        sink.Finish();
        return manifest;
    }

    // A table may have grown since room was left for its groups.
    private static TableBaseline[] Fitting(IReadOnlyList<TableBaseline> taken, SetManifest draft)
    {
        Dictionary<string, TableBaseline> room = draft.Baseline.ToDictionary(table => table.Table);
        return [.. taken.Select(table => room.TryGetValue(table.Table, out TableBaseline? left) ? table.Within(left) : table)];
    }

    /// <summary>Writes the manifest with its tar header, filled up with blanks to a size.</summary>
    /// <param name="manifest">The manifest.</param>
    /// <param name="bytes">The size.</param>
    /// <param name="into">Takes no more than that.</param>
    public static void WriteBeginning(SetManifest manifest, int bytes, Stream into)
    {
        into.Write(SetLayout.ManifestHeader(bytes - SetLayout.Block, manifest.Label.MadeAt));
        try { JsonSerializer.Serialize(into, manifest, SetJson.Form.SetManifest); }
        catch (NotSupportedException error)
        {
            throw new InvalidOperationException("the manifest became longer than expected", error);
        }
        byte[] blanks = new byte[bytes - into.Position];
        if (blanks.Length == 0) return;
        blanks.AsSpan().Fill((byte)' ');
        blanks[^1] = (byte)'\n';
        into.Write(blanks);
    }

    private static int BeginningBytes(SetManifest manifest)
    {
        using var json = new CountedBytes();
        JsonSerializer.Serialize(json, manifest, SetJson.Form.SetManifest);
        return checked((int)(SetLayout.Block + SetLayout.Padded(json.Length + 1)));
    }

    private static SetMember AsLongAsItCanBecome(SetSource source)
    {
        if (!source.Draft.IsFile) return source.Draft;
        string digest = new('f', 64);
        int frames = FrameCount(source.Stat.Bytes);
        return source.Draft with
        {
            Bytes = long.MaxValue,
            Sha256 = digest,
            PackedBytes = long.MaxValue,
            PackedSha256 = digest,
            PackedXxh128 = digest[..32],
            Changing = true,
            Frames = frames > 1 ? [.. Enumerable.Repeat(ZstdFrames.Bound(SetManifest.FrameContentBytes), frames)] : null,
        };
    }

    private static int FrameCount(long bytes) =>
        (int)Math.Max(1, (bytes + SetManifest.FrameContentBytes - 1) / SetManifest.FrameContentBytes);

    private IEnumerable<Func<Piece>> Pieces(IReadOnlyList<SetSource> sources)
    {
        foreach (SetSource source in sources)
        {
            if (!source.Draft.IsFile) yield return () => new Piece(source) { Member = source.Draft };
            else if (earlier?.Find(source) is { } member and >= 0) yield return () => new Piece(source) { Reused = member };
            else if (source.Stat.Bytes <= SetManifest.FrameContentBytes) yield return () => PackSmall(source);
            else
            {
                if (TryOpen(source, out Opened? file) is { } why)
                {
                    yield return () => new Piece(source) { Unreadable = why };
                    continue;
                }
                int frames = FrameCount(source.Stat.Bytes);
                for (int i = 0; i < frames; i++)
                {
                    int frame = i;
                    yield return () => PackFrame(source, file!, frame, frames);
                }
            }
        }
    }

    private static string? TryOpen(SetSource source, out Opened? file)
    {
        file = null;
        try
        {
            file = new Opened(source.Open(), source.Stat);
            return null;
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException)
        {
            return error.Message;
        }
    }

    private int Pack(ReadOnlySpan<byte> plain, Span<byte> packed)
    {
        ZstdFrames frames = _frames.Take();
        try { return frames.Pack(plain, packed); }
        finally { _frames.Give(frames); }
    }

    private Piece PackSmall(SetSource source)
    {
        byte[] plain = ArrayPool<byte>.Shared.Rent((int)source.Stat.Bytes + 1),
            packed = ArrayPool<byte>.Shared.Rent(ZstdFrames.Bound((int)source.Stat.Bytes + 1));
        try
        {
            int length = 0;
            bool changing = true;
            FileStat stat = source.Stat;
            for (int tries = 0; changing && tries < TriesAtMost; tries++)
            {
                using SafeFileHandle file = source.Open();
                length = 0;
                for (int read; length <= source.Stat.Bytes
                    && (read = RandomAccess.Read(file, plain.AsSpan(length, (int)source.Stat.Bytes + 1 - length), length)) > 0;)
                    length += read;
                FileStat? now = source.Now();
                changing = now?.IsUnchangedSince(stat) != true || length != stat.Bytes;
                // What it is now must hold still during the next try.
                stat = now ?? stat;
            }
            length = (int)Math.Min(length, source.Stat.Bytes);
            int size = Pack(plain.AsSpan(0, length), packed);
            SetMember member = source.Draft with
            {
                Bytes = length,
                Sha256 = Convert.ToHexStringLower(SHA256.HashData(plain.AsSpan(0, length))),
                PackedBytes = size,
                PackedSha256 = Convert.ToHexStringLower(SHA256.HashData(packed.AsSpan(0, size))),
                PackedXxh128 = Convert.ToHexStringLower(XxHash128.Hash(packed.AsSpan(0, size))),
                Changing = changing,
                Stamp = stat == source.Stat ? source.Draft.Stamp : null,
            };
            return new Piece(source)
            {
                Member = member,
                Packed = packed,
                PackedLength = size,
                PlainLength = length,
                PlainDigest = XxHash128.HashToUInt128(plain.AsSpan(0, length)),
                Changing = changing
            };
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException)
        {
            return new Piece(source) { Unreadable = error.Message, Packed = packed };
        }
        finally
        {
            ArrayPool<byte>.Shared.Return(plain);
        }
    }

    private Piece PackFrame(SetSource source, Opened file, int frame, int frames)
    {
        long at = (long)frame * SetManifest.FrameContentBytes;
        int wanted = (int)Math.Min(SetManifest.FrameContentBytes, file.Stat.Bytes - at), length = 0;
        byte[] plain = ArrayPool<byte>.Shared.Rent(SetManifest.FrameContentBytes),
            packed = ArrayPool<byte>.Shared.Rent(ZstdFrames.Bound(SetManifest.FrameContentBytes));
        string? unreadable = null;
        try
        {
            for (int read; length < wanted && (read = ReadAt(file.Handle, plain.AsMemory(length, wanted - length),
                at + length)) > 0;) length += read;
        }
        catch (IOException error)
        {
            unreadable = string.Create(CultureInfo.InvariantCulture,
                $"bytes {at} to {at + wanted} could not be read and are zeros in the set: {error.Message}");
        }
        bool isShort = unreadable is null && length < wanted; // it was cut off meanwhile
        if (length < wanted) plain.AsSpan(length, wanted - length).Clear();
        int size = Pack(plain.AsSpan(0, wanted), packed);
        bool isLast = frame == frames - 1;
        return new Piece(source)
        {
            Packed = packed,
            PackedLength = size,
            Plain = plain,
            PlainLength = wanted,
            IsFirst = frame == 0,
            IsLast = isLast,
            Unreadable = unreadable,
            Changing = isShort || (isLast && source.Now()?.IsUnchangedSince(file.Stat) != true),
            File = file,
        };
    }

    private void Take(Piece piece)
    {
        if (piece.Reused < 0) CopyRun();
        if (piece.File is not null) TakeFrame(piece);
        else if (piece.Reused >= 0) TakeEarlier(piece);
        else if (piece.Unreadable is { } why) LeaveOut(piece.Source, why);
        else TakeMember(piece);
        progress(_done, _total);
    }

    private void TakeMember(Piece piece)
    {
        if (piece.Member!.Kind == MemberKinds.Same && _leftOut.FirstOrDefault(left => left.Name == piece.Member.Target) is { } first
            && !_members.Any(member => member.Name == first.Name))
        {
            LeaveOut(piece.Source, first.Why);
            return;
        }
        sink.Append(SetLayout.HeaderOf(piece.Member!));
        if (piece.Member!.IsFile)
        {
            Pad(piece.Packed, piece.PackedLength);
            ArrayPool<byte>.Shared.Return(piece.Packed);
            if (piece.Changing) Changing(piece.Source);
            _done += piece.PlainLength;
        }
        Add(piece.Member, piece.PlainDigest);
    }

    private void Add(SetMember member, UInt128? plainDigest, bool isReused = false)
    {
        _members.Add(member);
        Notes.Add(plainDigest, isReused);
    }

    private void TakeEarlier(Piece piece)
    {
        SetMember known = earlier!.Manifest.Members[piece.Reused];
        SetMember member = piece.Source.Draft with
        {
            Bytes = known.Bytes,
            Sha256 = known.Sha256,
            PackedBytes = known.PackedBytes,
            PackedSha256 = known.PackedSha256,
            PackedXxh128 = known.PackedXxh128,
            Frames = known.Frames,
        };
        byte[] header = SetLayout.HeaderOf(member);
        // The member with its header, or without it when its rights or its name's owner are not what they were.
        bool isWhole = SetLayout.HeaderOf(known).AsSpan().SequenceEqual(header);
        long from = isWhole ? earlier.HeaderAt(piece.Reused) : earlier.ContentAt(piece.Reused);
        if (!isWhole || from != _runAt + _runBytes || _runBytes > LongestRun)
        {
            CopyRun();
            if (!isWhole) sink.Append(header);
            _runAt = from;
        }
        _runBytes += earlier.EndOf(piece.Reused) - from;
        Add(member, null, isReused: true);
        _done += known.Bytes;
    }

    private void CopyRun()
    {
        if (_runBytes > 0) sink.AppendFrom(earlier!.File, _runAt, _runBytes);
        _runBytes = 0;
    }

    private void TakeFrame(Piece piece)
    {
        if (piece.IsFirst)
        {
            _plainHash = IncrementalHash.CreateHash(HashAlgorithmName.SHA256);
            _packedHash = IncrementalHash.CreateHash(HashAlgorithmName.SHA256);
            _frameSizes.Clear();
            _plainBytes = _packedBytes = 0;
            _headerAt = sink.Leave(SetLayout.HeaderOf(AsLongAsItCanBecome(piece.Source) with { Bytes = piece.File!.Stat.Bytes }).Length);
        }
        _plainHash!.AppendData(piece.Plain.AsSpan(0, piece.PlainLength));
        _packedHash!.AppendData(piece.Packed.AsSpan(0, piece.PackedLength));
        _quickHash.Append(piece.Packed.AsSpan(0, piece.PackedLength));
        _quickPlain.Append(piece.Plain.AsSpan(0, piece.PlainLength));
        sink.Append(piece.Packed.AsSpan(0, piece.PackedLength));
        _frameSizes.Add(piece.PackedLength);
        _plainBytes += piece.PlainLength;
        _packedBytes += piece.PackedLength;
        _done += piece.PlainLength;
        ArrayPool<byte>.Shared.Return(piece.Plain);
        ArrayPool<byte>.Shared.Return(piece.Packed);
        if (piece.Unreadable is { } why)
        {
            if (IsOfStore(piece.Source)) LeaveOut(piece.Source, why);
            // The first part that cannot be read stands for those behind it.
            if (_leftOut.Count == 0 || _leftOut[^1].Name != piece.Source.Draft.Name) _leftOut.Add(new LeftOut(piece.Source.Draft.Name,
                SourceTree.ShortWhy(why), false));
        }
        if (piece.Changing) Changing(piece.Source);
        if (!piece.IsLast) return;
        piece.File!.Handle.Dispose();
        SetMember member = piece.Source.Draft with
        {
            Bytes = _plainBytes,
            Sha256 = Convert.ToHexStringLower(_plainHash.GetHashAndReset()),
            PackedBytes = _packedBytes,
            PackedSha256 = Convert.ToHexStringLower(_packedHash.GetHashAndReset()),
            PackedXxh128 = Convert.ToHexStringLower(_quickHash.GetHashAndReset()),
            Frames = [.. _frameSizes],
            Changing = piece.Changing,
        };
        Pad([], (int)(_packedBytes % SetLayout.Block));
        sink.Fill(_headerAt, SetLayout.HeaderOf(member));
        Add(member, _quickPlain.GetCurrentHashAsUInt128());
        _quickPlain.Reset();
        _plainHash.Dispose();
        _packedHash.Dispose();
        _plainHash = _packedHash = null;
    }

    // Content, then zeros up to the next block.
    private void Pad(byte[] content, int length)
    {
        sink.Append(content.AsSpan(0, Math.Min(length, content.Length)));
        int zeros = (SetLayout.Block - (length % SetLayout.Block)) % SetLayout.Block;
        sink.Append(Zeros.AsSpan(0, zeros));
    }

    private static bool IsOfStore(SetSource source) => source.Draft.Name.StartsWith("store/", StringComparison.Ordinal);

    private void LeaveOut(SetSource source, string why)
    {
        if (IsOfStore(source))
            throw new TransferraException($"{PosixFiles.Shown(source.Path)} could not be read: {why}",
                "It is part of the store, so there is no backup without it. Look at its rights and at the disk, then try again.");
        _leftOut.Add(new LeftOut(source.Draft.Name, SourceTree.ShortWhy(why), false));
        _done += source.Stat.Bytes;
    }

    private static void Changing(SetSource source)
    {
        if (IsOfStore(source))
            throw new TransferraException($"{PosixFiles.Shown(source.Path)} was changed while it was read",
                "Somebody is writing to the store. Close the program on all workstations, then try again.");
    }

    /// <inheritdoc/>
    public void Dispose()
    {
        _frames.Dispose();
        _plainHash?.Dispose();
        _packedHash?.Dispose();
    }
}
