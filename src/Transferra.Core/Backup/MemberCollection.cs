// MemberCollection.cs: the members of a set, in the order in which they lie in it, kept as bytes until somebody asks for one.
// Why: a set of 100,000 documents has as many members, and a backup has several such lists in memory at once.
// Holds: (1) a member that comes out is equal to the one that went in, whatever a manifest said of it.
using System.Collections;
using Transferra.Core.Machine;

namespace Transferra.Core.Backup;

/// <summary>Members of a set. Read by several threads at once, added to by one.</summary>
public sealed class MemberCollection : IReadOnlyList<SetMember>, ICollection<SetMember>
{
    private readonly PackedEntries _entries;
    private readonly EntryWriter _writer = new();

    // Kinds, rights and owners, of which a set has few.
    private readonly List<string> _repeated = [];
    private readonly Dictionary<string, int> _places = new(StringComparer.Ordinal);

    // Of members that are made when they are asked for.
    private readonly IReadOnlyList<SetMember>? _made;

    /// <summary>Begins an empty list.</summary>
    public MemberCollection() => _entries = new PackedEntries();

    /// <summary>Begins one that keeps so many chunks of its bytes in memory.</summary>
    internal MemberCollection(int keptChunks) => _entries = new PackedEntries(keptChunks);

    private MemberCollection(IReadOnlyList<SetMember> made) : this() => _made = made;

    /// <summary>A list whose members are made each time they are asked for, to reckon with them.</summary>
    internal static MemberCollection Made(int count, Func<int, SetMember> make) => new(new MadeList<SetMember>(count, make));

    /// <inheritdoc/>
    public int Count => _made?.Count ?? _entries.Count;

    /// <inheritdoc/>
    public bool IsReadOnly => _made is not null;

    [Flags]
    private enum Has
    {
        Nothing = 0,
        Content = 1,
        Frames = 2,
        Target = 4,
        Sparse = 8,
        Changing = 16,
        Attributes = 32,
        Raw = 64,
        Stamp = 128,
        Offset = 256,
    }

    /// <inheritdoc/>
    public void Add(SetMember item)
    {
        if (_made is not null) throw new NotSupportedException("these members are made");
        ArgumentNullException.ThrowIfNull(item); // a manifest may say so
        _writer.Clear();
        Has has = (item.Bytes != 0 || item.PackedBytes != 0 || item.HasDigest ? Has.Content : 0) | (item.Frames is null ? 0 : Has.Frames)
            | (item.Target is null ? 0 : Has.Target) | (item.Sparse ? Has.Sparse : 0) | (item.Changing ? Has.Changing : 0)
            | (item.Attributes is null ? 0 : Has.Attributes) | (item.RawName is null && item.RawTarget is null ? 0 : Has.Raw)
            | (item.Stamp is null ? 0 : Has.Stamp) | (item.Modified.Offset == TimeSpan.Zero ? 0 : Has.Offset);
        _writer.Number((long)has);
        _writer.Text(item.Name);
        foreach (string repeated in (ReadOnlySpan<string>)[item.Kind, item.Mode, item.Owner]) _writer.Number(PlaceOf(repeated));
        _writer.Long(item.Modified.UtcTicks);
        if (has.HasFlag(Has.Offset)) _writer.Number(item.Modified.Offset.Ticks);
        _writer.Number(item.Nanoseconds);
        if (has.HasFlag(Has.Content))
        {
            _writer.Number(item.Bytes);
            _writer.Number(item.PackedBytes);
            item.WriteDigests(_writer);
        }
        if (item.Frames is { } frames)
        {
            _writer.Number(frames.Count);
            foreach (int frame in frames) _writer.Number(frame);
        }
        if (has.HasFlag(Has.Target)) _writer.Text(item.Target);
        if (item.Attributes is { } attributes)
        {
            _writer.Number(attributes.Count);
            foreach ((string name, string value) in attributes)
            {
                _writer.Text(name);
                _writer.Text(value);
            }
        }
        if (has.HasFlag(Has.Raw))
        {
            _writer.Text(item.RawName);
            _writer.Text(item.RawTarget);
        }
        if (has.HasFlag(Has.Stamp)) _writer.Text(item.Stamp);
        _entries.Add(_writer.Written);
    }

    private int PlaceOf(string repeated)
    {
        if (_places.TryGetValue(repeated, out int place)) return place;
        _repeated.Add(repeated);
        _places.Add(repeated, _repeated.Count - 1);
        return _repeated.Count - 1;
    }

    /// <inheritdoc/>
    public SetMember this[int index]
    {
        get
        {
            if (_made is not null) return _made[index];
            var reader = new EntryReader(_entries[index]);
            var has = (Has)reader.Number();
            string name = reader.Text()!, kind = _repeated[(int)reader.Number()], mode = _repeated[(int)reader.Number()],
                owner = _repeated[(int)reader.Number()];
            var utc = new DateTimeOffset(reader.Long(), TimeSpan.Zero);
            return new SetMember(name, kind, mode, owner, has.HasFlag(Has.Offset) ? utc.ToOffset(new TimeSpan(reader.Number())) : utc)
            {
                Nanoseconds = (int)reader.Number(),
                Bytes = has.HasFlag(Has.Content) ? reader.Number() : 0,
                PackedBytes = has.HasFlag(Has.Content) ? reader.Number() : 0,
                Digests = has.HasFlag(Has.Content) ? MemberDigests.Read(ref reader) : default,
                Frames = has.HasFlag(Has.Frames) ? FramesOf(ref reader) : null,
                Target = has.HasFlag(Has.Target) ? reader.Text() : null,
                Sparse = has.HasFlag(Has.Sparse),
                Changing = has.HasFlag(Has.Changing),
                Attributes = has.HasFlag(Has.Attributes) ? AttributesOf(ref reader) : null,
                RawName = has.HasFlag(Has.Raw) ? reader.Text() : null,
                RawTarget = has.HasFlag(Has.Raw) ? reader.Text() : null,
                Stamp = has.HasFlag(Has.Stamp) ? reader.Text() : null
            };
        }
    }

    private static int[] FramesOf(ref EntryReader reader)
    {
        int[] frames = new int[(int)reader.Number()];
        for (int i = 0; i < frames.Length; i++) frames[i] = (int)reader.Number();
        return frames;
    }

    private static Dictionary<string, string> AttributesOf(ref EntryReader reader)
    {
        var attributes = new Dictionary<string, string>();
        for (int left = (int)reader.Number(); left > 0; left--) attributes.Add(reader.Text()!, reader.Text()!);
        return attributes;
    }

    /// <inheritdoc/>
    public IEnumerator<SetMember> GetEnumerator()
    {
        for (int i = 0; i < Count; i++) yield return this[i];
    }

    IEnumerator IEnumerable.GetEnumerator() => GetEnumerator();

    /// <inheritdoc/>
    public bool Contains(SetMember item) => this.AsEnumerable().Contains(item);

    /// <inheritdoc/>
    public void CopyTo(SetMember[] array, int arrayIndex)
    {
        foreach (SetMember member in this) array[arrayIndex++] = member;
    }

    /// <summary>What lies in a set does not go.</summary>
    /// <exception cref="NotSupportedException">Always.</exception>
    void ICollection<SetMember>.Clear() => throw new NotSupportedException();

    /// <inheritdoc cref="ICollection{T}.Clear"/>
    bool ICollection<SetMember>.Remove(SetMember item) => throw new NotSupportedException();
}
