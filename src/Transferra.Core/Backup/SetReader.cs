// SetReader.cs: reads a set on all cores, comparing every byte with what its manifest says it is; unpacks it, or some of it, when a
// folder is given.
// Holds: (1) any change of any byte is a fault, located to its member where one is concerned; (2) a set that is shorter or longer than it
// should be is told;
// (3) nothing is written outside the folder: every member is judged before the first is written (SetMemberRules.cs), folders are walked
// by handles
//        that follow no link, and links are made last.
using System.Buffers;
using System.IO.Hashing;
using System.Security.Cryptography;
using Microsoft.Win32.SafeHandles;
using Transferra.Core.Machine;

namespace Transferra.Core.Backup;

/// <summary>How closely a set is looked at.</summary>
internal enum SetScrutiny
{
    /// <summary>Only what is unpacked is read, and its packed bytes are compared by quick digests; that they hold the right content was
    /// seen when the set was proved, and each frame has a checksum of it. A digest without a key is not a help against intent, be it quick
    /// or not: whoever forges a member forges that, too. A locked set's bytes prove themselves.</summary>
    Content,

    /// <summary>Every byte of the file is compared, by quick digests: enough for members that were just copied from a set that is proved,
    /// whose content follows from that.</summary>
    Bytes,

    /// <summary>Every byte of the file is compared, and every member unpacked and its content compared, by quick digests that this
    /// process took of both while it packed them: the same proof as <see cref="All"/> against all but intent.</summary>
    JustPacked,

    /// <summary>Every byte of the file is compared, and every member unpacked and its content compared.</summary>
    All,
}

internal sealed class SetReader(ISetFile file, SetScrutiny scrutiny, string? folder = null, Func<string, bool>? isWanted = null,
    Action<long, long>? progress = null, CancellationToken cancel = default) : IDisposable
{
    // Small members are read together up to about this many bytes.
    private const int GroupBytes = 1 << 20;

    private readonly List<SetFault> _faults = [];
    private readonly ZstdPool _frames = new();
    private FolderTree? _tree;
    private readonly System.Collections.Concurrent.ConcurrentBag<string> _remarks = [];
    private SetManifest _manifest = null!;
    private SetLayout _layout = null!;
    private HashSet<int> _written = [];
    private long _done, _total;

    // Of the large member that is being read.
    private readonly XxHash128 _quickHash = new(), _quickPlain = new();
    private IncrementalHash? _plainHash, _packedHash;
    private SafeFileHandle? _target;
    private bool _isBroken;
    private long _plainBytes;

    private int _lastOfPart = int.MaxValue;
    private bool _isPartTold;

    /// <summary>The set's beginning, where the caller has read it already.</summary>
    public SetBeginning? Beginning { get; init; }

    /// <summary>Members whose content need not be compared, as the same packed bytes were compared before, by their place in the
    /// manifest.</summary>
    public Predicate<int>? IsKnown { get; init; }

    /// <summary>XXH128 of the content of members that this process has just packed, by their place in the manifest; null for others.
    /// </summary>
    public IReadOnlyList<UInt128?>? JustPacked { get; init; }

    /// <summary>What of the unpacked entries could not be brought back beside their content, one line each.</summary>
    public IReadOnlyList<string> Remarks => [.. _remarks.Order(StringComparer.Ordinal)];

    /// <summary>Members to be told of as soon as all of them are unpacked, by their names.</summary>
    public Func<string, bool>? Part { get; init; }

    /// <summary>Called once when that part is unpacked, which may be long before the whole set is read; not called when something is
    /// wrong until then.</summary>
    public Action? WhenPartIsUnpacked { get; init; }

    private SetScrutiny ScrutinyOf(int index) => scrutiny != SetScrutiny.All ? scrutiny
        : PackedNow(index) is not null ? SetScrutiny.JustPacked
        : IsKnown?.Invoke(index) == true && !_written.Contains(index) ? SetScrutiny.Bytes : scrutiny;

    private UInt128? PackedNow(int index) => index < JustPacked?.Count ? JustPacked[index] : null;

    // What came of some members, or of one frame of a large one.
    private sealed record Piece(long Bytes)
    {
        public IReadOnlyList<SetFault> Faults { get; init; } = [];
        public int Behind { get; init; }
        public int Member { get; init; } = -1;
        public int Frame { get; init; }
        public byte[] Packed { get; init; } = [];
        public int PackedLength { get; init; }
        public byte[] Plain { get; init; } = [];
        public int PlainLength { get; init; }
    }

    /// <summary>Reads.</summary>
    /// <returns>What is wrong; empty when nothing is.</returns>
    public IReadOnlyList<SetFault> Run()
    {
        try
        {
            Read();
        }
        catch (Exception error) when (error is InvalidDataException or EndOfStreamException or FormatException or ArgumentException
            or OverflowException)
        {
            _faults.Add(new SetFault("damaged", "", $"the set cannot be read further: {error.Message}"));
        }
        return _faults;
    }

    private void Read()
    {
        SetBeginning beginning = Beginning ?? SetBeginning.Read(file);
        if (beginning.Fault is { } fault)
        {
            _faults.Add(fault);
            return;
        }
        _manifest = beginning.Manifest!;
        _layout = beginning.Layout();
        if (beginning.JudgeSeal(file, _layout) is { } wrong)
        {
            _faults.Add(wrong);
            // A manifest that is not the one that was written locates nothing; a set that is merely cut off still tells what is missing.
            if (wrong.Code == SetBeginning.SealChanged) return;
        }
        if (SetMemberRules.Judge(_manifest) is { } hostile)
        {
            _faults.Add(hostile);
            return;
        }
        if (folder is not null)
        {
            _written = MembersToWrite();
            // Links are made at the end only; a part with any is told of then.
            int[] part = [.. _written.Where(member => Part?.Invoke(_manifest.Members[member].Name) == true)];
            if (part.Any(member => _manifest.Members[member].IsFile)
                && part.All(member => _manifest.Members[member].Kind is MemberKinds.File or MemberKinds.Folder))
                _lastOfPart = part.Max();
            byte[] root = PosixFiles.Bytes(Path.GetFullPath(folder));
            PosixFiles.MakeFolder(root);
            _tree = new FolderTree(root);
        }
        _total = scrutiny == SetScrutiny.Content ? _written.Sum(member => _manifest.Members[member].PackedBytes) : _layout.SealAt;
        OrderedWork.Run(Pieces(), Take, cancel);
        if (folder is null || _faults.Count > 0) return;
        FinishFolder();
        TellPart(int.MaxValue);
    }

    private void TellPart(int behind)
    {
        if (_isPartTold || folder is null || (behind <= _lastOfPart && behind < int.MaxValue) || _faults.Count > 0) return;
        _isPartTold = true;
        WhenPartIsUnpacked?.Invoke();
    }

    // Members whose content is written: those wanted, and the files that wanted names are other names of.
    private HashSet<int> MembersToWrite()
    {
        var wanted = new HashSet<int>();
        var alsoCalled = new HashSet<string>(StringComparer.Ordinal);
        foreach ((int i, SetMember member) in _manifest.Members.Index())
        {
            if (isWanted?.Invoke(member.Name) == false) continue;
            wanted.Add(i);
            if (member.Kind == MemberKinds.Same) alsoCalled.Add(member.Target ?? "");
        }
        if (alsoCalled.Count == 0) return wanted;
        // The first of a name is the one.
        foreach ((int i, SetMember member) in _manifest.Members.Index())
            if (alsoCalled.Remove(member.Name)) wanted.Add(i);
        return wanted;
    }

    private IEnumerable<Func<Piece>> Pieces()
    {
        int count = _manifest.Members.Count, first = -1;
        for (int member = 0; member < count; member++)
        {
            bool isRead = scrutiny != SetScrutiny.Content || _written.Contains(member);
            IReadOnlyList<int>? frames = isRead ? _manifest.Members[member].Frames : null;
            // Small ones that stand together are read together.
            if (first >= 0 && (!isRead || frames is not null || _layout.EndOf(member) - _layout.HeaderAt(first) > GroupBytes))
            {
                (int from, int behind) = (first, member);
                yield return () => ReadMembers(from, behind);
                first = -1;
            }
            if (!isRead) continue;
            if (frames is null)
            {
                if (first < 0) first = member;
                continue;
            }
            long at = _layout.ContentAt(member);
            for (int i = 0; i < frames.Count; i++)
            {
                (int of, int frame, long from) = (member, i, at);
                yield return () => ReadFrame(of, frame, from);
                at += frames[i];
            }
        }
        if (first >= 0) yield return () => ReadMembers(first, count);
    }

    private Piece ReadMembers(int first, int behind)
    {
        long from = _layout.HeaderAt(first);
        int length = checked((int)(_layout.EndOf(behind - 1) - from));
        byte[] bytes = ArrayPool<byte>.Shared.Rent(length), plain = ArrayPool<byte>.Shared.Rent(SetManifest.FrameContentBytes);
        var faults = new List<SetFault>();
        try
        {
            int read = ReadAt(from, bytes.AsSpan(0, length));
            for (int i = first; i < behind; i++)
            {
                // Of a locked set nothing is read of a stretch with damage in it; then each member is read by itself.
                if (read < length && behind - first > 1)
                {
                    faults.AddRange(ReadMembers(i, i + 1).Faults);
                    continue;
                }
                SetMember member = _manifest.Members[i];
                int at = (int)(_layout.HeaderAt(i) - from), content = (int)(_layout.ContentAt(i) - from),
                    packed = (int)member.PackedBytes, end = (int)(_layout.EndOf(i) - from);
                if (end > read)
                    faults.Add(file.Length < _layout.EndOf(i)
                        ? new SetFault("missing", member.Name, "the set ends before this member does")
                        : new SetFault("damaged", member.Name, "the locked set is damaged where this member is"));
                else if (Judge(member, i, bytes.AsSpan(at, content - at), bytes.AsSpan(content, packed),
                    bytes.AsSpan(content + packed, end - content - packed), plain) is { } fault)
                    faults.Add(fault);
                else if (member.IsFile && _written.Contains(i)) WriteSmall(member, plain.AsSpan(0, (int)member.Bytes));
            }
        }
        finally
        {
            ArrayPool<byte>.Shared.Return(bytes);
            ArrayPool<byte>.Shared.Return(plain);
        }
        return new Piece(length) { Faults = faults, Behind = behind };
    }

    private SetFault? Judge(SetMember member, int index, ReadOnlySpan<byte> header, ReadOnlySpan<byte> packed,
        ReadOnlySpan<byte> padding, Span<byte> plain)
    {
        SetScrutiny how = ScrutinyOf(index);
        if (how != SetScrutiny.Content && JudgeAround(member, header, padding) is { } around) return around;
        if (member.IsFile && (how != SetScrutiny.All
            ? Convert.ToHexStringLower(XxHash128.Hash(packed)) != member.PackedXxh128
            : Convert.ToHexStringLower(SHA256.HashData(packed)) != member.PackedSha256))
            return PackedWrong(member, packed, plain);
        if (!member.IsFile || how == SetScrutiny.Bytes) return null;
        int length = Unpack(packed, plain);
        if (length < 0) return new SetFault("damaged", member.Name, "the member cannot be unpacked: its zstd frame is damaged");
        return length == member.Bytes && how switch
        {
            SetScrutiny.Content => true,
            SetScrutiny.JustPacked => XxHash128.HashToUInt128(plain[..length]) == PackedNow(index),
            _ => Convert.ToHexStringLower(SHA256.HashData(plain[..length])) == member.Sha256
        }
            ? null : new SetFault("damaged", member.Name, "the unpacked content is not what was backed up");
    }

    private static SetFault? JudgeAround(SetMember member, ReadOnlySpan<byte> header, ReadOnlySpan<byte> padding)
    {
        if (!header.SequenceEqual(SetLayout.HeaderOf(member))) return new SetFault("damaged", member.Name,
            "the tar header of the member is not the one that was written");
        return padding.ContainsAnyExcept((byte)0) ? new SetFault("damaged", member.Name,
            "the bytes that fill up the member's last block are not zeros") : null;
    }

    private SetFault PackedWrong(SetMember member, ReadOnlySpan<byte> packed, Span<byte> plain) =>
        new("damaged", member.Name, Unpack(packed, plain) < 0
            ? "the packed bytes are not those that were written, and cannot be unpacked"
                : "the packed bytes are not those that were written");

    private int Unpack(ReadOnlySpan<byte> packed, Span<byte> plain)
    {
        ZstdFrames frames = _frames.Take();
        try { return frames.Unpack(packed, plain); }
        finally { _frames.Give(frames); }
    }

    private Piece ReadFrame(int member, int frame, long at)
    {
        int size = _manifest.Members[member].Frames![frame];
        SetScrutiny how = ScrutinyOf(member);
        byte[] packed = ArrayPool<byte>.Shared.Rent(size), plain = [];
        int read = ReadAt(at, packed.AsSpan(0, size)), length = -1;
        if (read == size && how != SetScrutiny.Bytes)
        {
            plain = ArrayPool<byte>.Shared.Rent(SetManifest.FrameContentBytes);
            length = Unpack(packed.AsSpan(0, size), plain.AsSpan(0, SetManifest.FrameContentBytes));
        }
        return new Piece(size)
        {
            Member = member,
            Frame = frame,
            Packed = packed,
            PackedLength = read,
            Plain = plain,
            PlainLength = length
        };
    }

    // A locked set's bytes prove themselves; what does not is missing here, and told where it belongs.
    private int ReadAt(long position, Span<byte> buffer)
    {
        try { return file.ReadAt(position, buffer); }
        catch (InvalidDataException) { return 0; }
    }

    private void Take(Piece piece)
    {
        _faults.AddRange(piece.Faults);
        SetMember? large = piece.Member >= 0 ? _manifest.Members[piece.Member] : null;
        if (large is not null) TakeFrame(piece, large);
        TellPart(large is null ? piece.Behind : piece.Frame == large.Frames!.Count - 1 ? piece.Member + 1 : 0);
        _done += piece.Bytes;
        progress?.Invoke(_done, _total);
    }

    private void TakeFrame(Piece piece, SetMember member)
    {
        SetScrutiny how = ScrutinyOf(piece.Member);
        if (piece.Frame == 0) Begin(member, piece.Member);
        if (!_isBroken)
        {
            if (piece.PackedLength < member.Frames![piece.Frame])
                Broken(new SetFault(file.Length < _layout.TotalBytes ? "missing" : "damaged", member.Name,
                    FormattableString.Invariant($"frame {piece.Frame + 1} of {member.Frames.Count} cannot be read")));
            else if (how != SetScrutiny.Bytes && piece.PlainLength < 0)
                Broken(new SetFault("damaged", member.Name,
                    FormattableString.Invariant($"frame {piece.Frame + 1} of {member.Frames.Count} cannot be unpacked: it is damaged")));
            else
            {
                if (how != SetScrutiny.All) _quickHash.Append(piece.Packed.AsSpan(0, piece.PackedLength));
                else _packedHash!.AppendData(piece.Packed.AsSpan(0, piece.PackedLength));
                if (how == SetScrutiny.All) _plainHash!.AppendData(piece.Plain.AsSpan(0, piece.PlainLength));
                else if (how == SetScrutiny.JustPacked) _quickPlain.Append(piece.Plain.AsSpan(0, piece.PlainLength));
                if (_target is not null)
                {
                    Sparse.Write(_target, _plainBytes, piece.Plain.AsSpan(0, piece.PlainLength), member.Sparse);
                    PosixFiles.BeginFlush(_target, _plainBytes, piece.PlainLength); // the disk works while the rest is unpacked
                }
                _plainBytes += Math.Max(0, piece.PlainLength);
            }
        }
        ArrayPool<byte>.Shared.Return(piece.Packed);
        if (piece.Plain.Length > 0) ArrayPool<byte>.Shared.Return(piece.Plain);
        if (piece.Frame == member.Frames!.Count - 1) End(member, piece.Member);
    }

    private void Broken(SetFault fault)
    {
        _faults.Add(fault);
        _isBroken = true;
    }

    private void Begin(SetMember member, int index)
    {
        _plainHash = IncrementalHash.CreateHash(HashAlgorithmName.SHA256);
        _packedHash = IncrementalHash.CreateHash(HashAlgorithmName.SHA256);
        _quickHash.Reset();
        _quickPlain.Reset();
        _isBroken = false;
        _plainBytes = 0;
        _target = _written.Contains(index) ? _tree!.CreateNew(member.NameBytes()) : null;
    }

    private void End(SetMember member, int index)
    {
        SetScrutiny how = ScrutinyOf(index);
        if (!_isBroken && (how != SetScrutiny.All
            ? Convert.ToHexStringLower(_quickHash.GetHashAndReset()) != member.PackedXxh128
            : Convert.ToHexStringLower(_packedHash!.GetHashAndReset()) != member.PackedSha256))
            Broken(new SetFault("damaged", member.Name, "the packed bytes are not those that were written"));
        if (!_isBroken && how != SetScrutiny.Content)
        {
            byte[] header = new byte[_layout.ContentAt(index) - _layout.HeaderAt(index)],
                padding = new byte[SetLayout.Padded(member.PackedBytes) - member.PackedBytes];
            if (ReadAt(_layout.HeaderAt(index), header) < header.Length || ReadAt(_layout.ContentAt(index) + member.PackedBytes,
                padding) < padding.Length)
                Broken(new SetFault("missing", member.Name, "the member's header or end cannot be read"));
            else if (JudgeAround(member, header, padding) is { } fault) Broken(fault);
        }
        if (!_isBroken && how != SetScrutiny.Bytes && (_plainBytes != member.Bytes
            || (how == SetScrutiny.All && Convert.ToHexStringLower(_plainHash!.GetHashAndReset()) != member.Sha256)
            || (how == SetScrutiny.JustPacked && _quickPlain.GetCurrentHashAsUInt128() != PackedNow(index))))
            Broken(new SetFault("damaged", member.Name, "the unpacked content is not what was backed up"));
        if (_target is not null)
        {
            RandomAccess.SetLength(_target, _plainBytes);
            SetRest(_target, member);
            _target.Dispose();
            _target = null;
        }
        _plainHash!.Dispose();
        _packedHash!.Dispose();
        _plainHash = _packedHash = null;
    }

    private void WriteSmall(SetMember member, ReadOnlySpan<byte> content)
    {
        using SafeFileHandle handle = _tree!.CreateNew(member.NameBytes());
        Sparse.Write(handle, 0, content, member.Sparse);
        if (member.Sparse) RandomAccess.SetLength(handle, content.Length);
        PosixFiles.BeginFlush(handle, 0, content.Length);
        SetRest(handle, member);
    }

    // Owner, rights, attributes and time of an entry; the owner only where this user may. A link has no handle.
    private void SetRest(SafeFileHandle? handle, SetMember member)
    {
        byte[] name = member.NameBytes();
        (uint user, uint group, string userName, string groupName) = member.OwnerParts();
        // A name counts for more than a number, which another machine may have given to somebody else.
        if (FileIdentity.EffectiveUser == 0) _tree!.SetOwner(name, PosixFiles.UserNumber(userName) ?? user,
            PosixFiles.GroupNumber(groupName) ?? group);
        if (handle is not null) _tree!.SetMode(handle, Convert.ToInt32(member.Mode, 8), name);
        foreach ((string attribute, string value) in member.Attributes ?? new Dictionary<string, string>())
            if (handle is null || !_tree!.SetAttribute(handle, attribute, Convert.FromBase64String(value), name))
                _remarks.Add($"{member.Name}: "
                    + (attribute.Contains("acl", StringComparison.Ordinal) ? "its access control list" : $"its attribute {attribute}"));
        _tree!.SetModified(name, SourceTree.ModifiedNanoseconds(member));
    }

    // Second names and links when all files are there; folders' times when nothing is made in them any more.
    private void FinishFolder()
    {
        var folders = new List<SetMember>();
        foreach (SetMember member in _written.Order().Select(i => _manifest.Members[i]))
        {
            if (member.Kind == MemberKinds.Folder)
            {
                _tree!.MakeFolder(member.NameBytes());
                folders.Add(member);
            }
            else if (member.Kind == MemberKinds.Same) _tree!.MakeName(member.TargetBytes(), member.NameBytes());
        }
        foreach (SetMember member in _written.Order().Select(i => _manifest.Members[i]).Where(member => member.Kind == MemberKinds.Link))
        {
            _tree!.MakeLink(member.NameBytes(), member.TargetBytes());
            SetRest(null, member);
        }
        foreach (SetMember member in Enumerable.Reverse(folders))
        {
            using SafeFileHandle handle = _tree!.OpenFolder(member.NameBytes());
            SetRest(handle, member);
        }
    }

    /// <inheritdoc/>
    public void Dispose()
    {
        _frames.Dispose();
        _plainHash?.Dispose();
        _packedHash?.Dispose();
        _target?.Dispose();
        _tree?.Dispose();
    }
}
