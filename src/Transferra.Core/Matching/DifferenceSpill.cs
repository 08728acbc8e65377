// DifferenceSpill.cs: every difference of a table, for whoever wants them all. What a column's differences have in common is known only
// after the last one, so they wait in a nameless file until then.
// Holds: every difference is told once, in the order in which they were found, with the kind that it turned out to be.
using Transferra.Core.Machine;

namespace Transferra.Core.Matching;

/// <summary>Keeps the differences of one table until all are known.</summary>
/// <param name="told">Hears of each.</param>
internal sealed class DifferenceSpill(Action<Difference> told) : IDisposable
{
    private readonly FileStream _file = SpillFile.Create(1 << 16);
    private BinaryWriter? _writer;
    private long _count;

    /// <summary>Takes one.</summary>
    /// <param name="column">Its column's ordinal; -1 for a whole record.</param>
    /// <param name="difference">It.</param>
    public void Add(int column, Difference difference)
    {
        BinaryWriter to = _writer ??= new BinaryWriter(_file, System.Text.Encoding.UTF8, leaveOpen: true);
        _count++;
        to.Write(column);
        to.Write(difference.Table);
        to.Write(difference.Key);
        to.Write(difference.Column);
        to.Write((byte)difference.Kind);
        to.Write(difference.Expected);
        to.Write(difference.Found);
        to.Write((byte)difference.Change);
        to.Write(difference.At ?? 0);
    }

    /// <summary>Tells all of them.</summary>
    /// <param name="settled">What a kind in a column turned out to be.</param>
    public void End(Func<int, ChangeKind, ChangeKind> settled)
    {
        _writer?.Dispose();
        _file.Position = 0;
        using var from = new BinaryReader(_file, System.Text.Encoding.UTF8, leaveOpen: true);
        for (; _count > 0; _count--)
        {
            int column = from.ReadInt32();
            var difference = new Difference(from.ReadString(), from.ReadString(), from.ReadString(), (DifferenceKind)from.ReadByte(),
                from.ReadString(), from.ReadString());
            var change = (ChangeKind)from.ReadByte();
            int at = from.ReadInt32();
            told(difference with { Change = column < 0 ? change : settled(column, change), At = at > 0 ? at : null });
        }
    }

    public void Dispose() => _file.Dispose();
}
