// Lookups.cs: records that other records point to, found by their key.
// Holds: (1) a key that no record has, that several different ones have, or whose record cannot be read, is a fault of the row that asks;
// (2) what is remembered of a key is known by all of its bytes, never by a digest of them.
using System.Buffers.Binary;
using System.IO.Hashing;
using Transferra.Core.Records;

namespace Transferra.Core.Expressions;

/// <summary>Records that other records point to, kept in memory: found by key, delivering columns.</summary>
internal sealed class LookupTable
{
    /// <summary>Most records of one lookup; more would break the promise of bounded memory.</summary>
    public const int MaxRows = 1_000_000;

    private readonly Dictionary<UInt128, int> _rows = [];
    private readonly int[] _all;
    private readonly CanonicalWriter _key = new();

    /// <summary>An empty lookup that delivers these columns.</summary>
    public LookupTable(string name, IReadOnlyList<ColumnShape> columns)
    {
        Name = name;
        Values = new RecordBatch(columns, new BatchLimits(int.MaxValue, long.MaxValue));
        _all = [.. Enumerable.Range(0, columns.Count)];
    }

    /// <summary>As the hop calls it.</summary>
    public string Name { get; }

    /// <summary>The delivered columns, a row for each key.</summary>
    public RecordBatch Values { get; }

    /// <summary>Gives the last record of <see cref="Values"/> its key. A key that several records have that are not the same stands for
    /// none of them.</summary>
    /// <param name="key">Where the key is.</param>
    /// <param name="row">In which row.</param>
    /// <param name="isReadable">Whether all of the record could be read.</param>
    public void AddKey(Vector key, int row, bool isReadable = true)
    {
        Keys++;
        _key.Clear();
        key.Encode(row, _key);
        UInt128 digest = XxHash128.HashToUInt128(_key.Written);
        int last = Values.RowCount - 1;
        if (!isReadable) _rows[digest] = Unreadable;
        else if (!_rows.TryAdd(digest, last) && _rows[digest] is var first and >= 0 && !Values.SameRows(first, last,
            _all)) _rows[digest] = Ambiguous;
    }

    /// <summary>How many keys were given, by which whoever remembers what was found knows that it still is so.</summary>
    public long Keys { get; private set; }

    /// <summary>What is found for a key that no record has, that several have, or whose record cannot be read.</summary>
    public const int Missing = -1, Ambiguous = -2, Unreadable = -3;

    /// <summary>The row of <see cref="Values"/> with a key; negative when there is no such one row.</summary>
    public int Find(Vector key, int row, CanonicalWriter scratch)
    {
        scratch.Clear();
        key.Encode(row, scratch);
        return _rows.TryGetValue(XxHash128.HashToUInt128(scratch.Written), out int found) ? found : Missing;
    }
}

/// <summary>A column of the record that a lookup finds; a key that is not there is a fault of the row.</summary>
internal sealed class LookupKernel(int lookup, int ordinal, FieldType type, Kernel key, string blame, FaultCode missing) : Kernel(type)
{
    private readonly Vector _result = Vector.Create(type);
    private readonly CanonicalWriter _scratch = new();
    private readonly FoundLately _lately = new();

    public override Vector Evaluate(EvaluationContext context)
    {
        Vector keys = key.Evaluate(context);
        LookupTable table = context.Lookups[lookup];
        Vector values = table.Values.Vectors[ordinal];
        _result.Reset();
        for (int row = 0; row < keys.Count; row++)
        {
            if (keys.IsNull(row)) { _result.AppendNull(); continue; }
            int found = _lately.Find(table, keys, row, _scratch);
            if (found >= 0) { _result.AppendFrom(values, found); continue; }
            string shown = keys.Show(row);
            if (found == LookupTable.Ambiguous)
                context.Fault(row, FaultCode.AmbiguousReference, blame, shown,
                    $"several records of {table.Name} have {ValueText.Quote(shown)} and are not the same, "
                        + "so it is not known which is meant");
            else if (found == LookupTable.Unreadable)
                context.Fault(row, FaultCode.MissingReference, blame, shown,
                    $"the record of {table.Name} with {ValueText.Quote(shown)} cannot be read");
            else context.Fault(row, missing, blame, shown, missing == FaultCode.NotInList
                ? $"the code {ValueText.Quote(shown)} is not in the list {table.Name}"
                : $"there is no {table.Name} with {ValueText.Quote(shown)}");
            _result.AppendNull();
        }
        return _result;
    }
}

/// <summary>What was found lately for short keys of one column; most records point to few others, again and again.</summary>
internal sealed class FoundLately
{
    private const int Places = 1 << 10;

    // Of texts the first and the last eight bytes, which together are all of one of up to sixteen, and their number.
    private readonly record struct Known(ulong Begin, ulong End, int Length, int Found);

    private Known[] _known = [];
    private LookupTable? _of;
    private long _keys;

    /// <summary>The row of a table with a key, as <see cref="LookupTable.Find"/>.</summary>
    public int Find(LookupTable table, Vector keys, int row, CanonicalWriter scratch)
    {
        if (!TryWords(keys, row, out ulong begin, out ulong end, out int length)) return table.Find(keys, row, scratch);
        if (_of != table || _keys != table.Keys)
        {
            if (_known.Length == 0) _known = new Known[Places];
            Array.Fill(_known, new Known(0, 0, -1, 0));
            (_of, _keys) = (table, table.Keys);
        }
        ref Known known = ref _known[(int)(((begin ^ (end << 7)) * 0x9E3779B97F4A7C15) >> 54)];
        if (known.Length != length || known.Begin != begin || known.End != end)
            known = new Known(begin, end, length, table.Find(keys, row, scratch));
        return known.Found;
    }

    private static bool TryWords(Vector keys, int row, out ulong begin, out ulong end, out int length)
    {
        (begin, end, length) = (0, 0, 0);
        if (keys is LongVector longs)
        {
            begin = (ulong)longs.Values[row];
            return true;
        }
        if (keys is not BytesVector bytes) return false;
        ReadOnlySpan<byte> text = bytes[row];
        length = text.Length;
        if (length > 2 * sizeof(ulong)) return false;
        if (length >= sizeof(ulong))
        {
            begin = BinaryPrimitives.ReadUInt64LittleEndian(text);
            end = BinaryPrimitives.ReadUInt64LittleEndian(text[^sizeof(ulong)..]);
        }
        else
            foreach (byte one in text) begin = (begin << 8) | one;
        return true;
    }
}
