// AnyValue.cs: values of columns that hold several kinds, as a SQLite column may that is declared without a type or with one that the
// engine does not know.
// Why a kind of its own: a number that comes back as a text is another value, to the program and to every comparison it makes.
// Form: one byte that tells the kind, then a whole number or a double of eight bytes, big-endian, or the bytes of a text or a blob.
using System.Buffers.Binary;
using System.Globalization;
using System.Text;

namespace Transferra.Core.Records;

/// <summary>Reads and writes values of <see cref="FieldKind.Any"/>.</summary>
public static class AnyValue
{
    /// <summary>The kinds.</summary>
    public const byte Whole = 1, Real = 2, Text = 3, Blob = 4;

    /// <summary>Adds a whole number.</summary>
    public static void Append(BytesVector vector, long value)
    {
        Span<byte> room = vector.Room(9);
        room[0] = Whole;
        BinaryPrimitives.WriteInt64BigEndian(room[1..], value);
        vector.Added(9);
    }

    /// <summary>Adds a floating-point number.</summary>
    public static void Append(BytesVector vector, double value)
    {
        Span<byte> room = vector.Room(9);
        room[0] = Real;
        BinaryPrimitives.WriteDoubleBigEndian(room[1..], value == 0 ? 0 : value);
        vector.Added(9);
    }

    /// <summary>Adds a text in UTF-8, or bytes without meaning.</summary>
    public static void Append(BytesVector vector, byte kind, ReadOnlySpan<byte> value)
    {
        Span<byte> room = vector.Room(1 + value.Length);
        room[0] = kind;
        value.CopyTo(room[1..]);
        vector.Added(1 + value.Length);
    }

    /// <summary>A whole number.</summary>
    public static long WholeOf(ReadOnlySpan<byte> value) => BinaryPrimitives.ReadInt64BigEndian(value[1..]);

    /// <summary>A floating-point number.</summary>
    public static double RealOf(ReadOnlySpan<byte> value) => BinaryPrimitives.ReadDoubleBigEndian(value[1..]);

    /// <summary>Orders such a value against a text: by kind first, so that only a text can equal one.</summary>
    public static int CompareToText(ReadOnlySpan<byte> value, ReadOnlySpan<byte> text) =>
        value[0] == Text ? value[1..].SequenceCompareTo(text) : value[0].CompareTo(Text);

    /// <summary>As a person reads it.</summary>
    public static string Show(ReadOnlySpan<byte> value) => value.IsEmpty ? "" : value[0] switch
    {
        Whole => WholeOf(value).ToString(CultureInfo.InvariantCulture),
        Real => RealOf(value).ToString("R", CultureInfo.InvariantCulture),
        Text => Encoding.UTF8.GetString(value[1..]),
        _ => "0x" + Convert.ToHexString(value[1..]),
    };

    private static string Name(byte kind) => kind switch
    {
        Whole => "a whole number",
        Real => "a floating-point number",
        _ => "bytes that are not text"
    };

    /// <summary>The shape of a table on an engine whose columns hold one kind each: what may be of several is a text there.</summary>
    public static TableShape OneKind(TableShape table) => table.Columns.All(column => column.Type.Kind != FieldKind.Any) ? table
        : table with
        {
            Columns = [.. table.Columns.Select(column => column.Type.Kind == FieldKind.Any
            ? column with { Type = FieldType.Text } : column)]
        };

    /// <summary>The same rows for such an engine. A value that is no text is refused there: as a text it would be another one.</summary>
    /// <param name="outputs">What is to be written.</param>
    /// <param name="rows">The rows; those that are left are what may be written.</param>
    /// <param name="rejects">Gets a reason for each that is refused.</param>
    /// <param name="engine">The engine's name.</param>
    /// <returns>The outputs to write instead.</returns>
    public static IReadOnlyList<TableOutput> OneKind(IReadOnlyList<TableOutput> outputs, ref ReadOnlySpan<int> rows,
        ICollection<RowReject> rejects, string engine)
    {
        if (outputs.All(output => output.Vectors.All(vector => vector.Type.Kind != FieldKind.Any))) return outputs;
        var refused = new HashSet<int>();
        foreach (TableOutput output in outputs)
            for (int column = 0; column < output.Vectors.Count; column++)
            {
                if (output.Vectors[column] is not BytesVector { Type.Kind: FieldKind.Any } values) continue;
                foreach (int row in rows)
                    if (!values.IsNull(row) && values[row][0] != Text && refused.Add(row))
                        rejects.Add(new RowReject(row, FaultCode.WrongKind,
                            $"{output.Table.Name}.{output.Table.Columns[column].Name} holds values of several kinds, here "
                                + $"{Name(values[row][0])}; {engine} has no such columns", Show(values[row])));
            }
        if (refused.Count > 0)
        {
            var left = new List<int>();
            foreach (int row in rows)
                if (!refused.Contains(row)) left.Add(row);
            rows = left.ToArray();
        }
        return [.. outputs.Select(output => new TableOutput(OneKind(output.Table), [.. output.Vectors.Select(Texts)]))];
    }

    private static Vector Texts(Vector vector)
    {
        if (vector is not BytesVector { Type.Kind: FieldKind.Any } values) return vector;
        var texts = new BytesVector(FieldType.Text);
        for (int row = 0; row < values.Count; row++)
            if (values.IsNull(row)) texts.AppendNull();
            else texts.Append(values[row][0] == Text ? values[row][1..] : []);
        return texts;
    }
}
