// SetSource.cs: the entries that go into a set, found before anything is packed, and kept as bytes until each one's turn
// (PackedEntries.cs).
using System.Collections;
using Microsoft.Win32.SafeHandles;
using Transferra.Core.Machine;

namespace Transferra.Core.Backup;

/// <summary>One entry that goes into a set.</summary>
/// <param name="Draft">What is known of it before it is packed.</param>
/// <param name="Tree">The folder that it lies below; null for a file that was asked for by itself.</param>
/// <param name="Where">Its path below that folder; of one that lies below none, its full path.</param>
/// <param name="Stat">What it was when it was found.</param>
internal sealed record SetSource(SetMember Draft, FolderTree? Tree, byte[] Where, FileStat Stat)
{
    /// <summary>Its full path, for messages.</summary>
    public byte[] Path => Tree is null ? Where : Where.Length == 0 ? Tree.Path : PosixFiles.Join(Tree.Path, Where);

    /// <summary>Opens it for reading, if it is still what was found.</summary>
    /// <exception cref="IOException">It is not: something else has taken its place.</exception>
    public SafeFileHandle Open() => Tree is not null ? Tree.OpenRead(Where) : PosixFiles.OpenRead(Where);

    /// <summary>What it is now; null when it is gone.</summary>
    public FileStat? Now() => Tree is not null ? Tree.Stat(Where) : PosixFiles.Stat(Where);
}

/// <summary>All of them, in the order in which they were found.</summary>
internal sealed class SourceList : IReadOnlyList<SetSource>
{
    private readonly MemberCollection _drafts = [];
    private readonly PackedEntries _rest = new();
    private readonly List<FolderTree?> _trees = [];
    private readonly EntryWriter _writer = new();

    public int Count => _drafts.Count;

    /// <summary>Adds one. Those of one folder come one after the other.</summary>
    public void Add(SetSource source)
    {
        int tree = _trees.LastIndexOf(source.Tree);
        if (tree < 0)
        {
            tree = _trees.Count;
            _trees.Add(source.Tree);
        }
        _writer.Clear();
        _writer.Number(tree);
        _writer.Bytes(source.Where);
        source.Stat.Write(_writer);
        _drafts.Add(source.Draft);
        _rest.Add(_writer.Written);
    }

    public SetSource this[int index]
    {
        get
        {
            var reader = new EntryReader(_rest[index]);
            return new SetSource(_drafts[index], _trees[(int)reader.Number()], reader.Bytes().ToArray(), FileStat.Read(ref reader));
        }
    }

    public IEnumerator<SetSource> GetEnumerator()
    {
        for (int i = 0; i < Count; i++) yield return this[i];
    }

    IEnumerator IEnumerable.GetEnumerator() => GetEnumerator();
}
