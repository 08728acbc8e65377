// MemoryStore.cs: a store in memory, so that Core is tested without any driver. Values: null, long, string, Int128 (units), bool, DateOnly.
using System.Text;
using Transferra.Core.Records;

namespace Transferra.Tests;

internal sealed class MemoryStore : IStore, IStoreBuilder
{
    public Dictionary<string, (TableShape Shape, List<object?[]> Rows)> Tables { get; } = new(StringComparer.OrdinalIgnoreCase);

    public Dictionary<string, QueryAnswer> Answers { get; } = [];

    public List<string> Complaints { get; } = [];

    /// <summary>What it has beside its records.</summary>
    public List<StoreDeclaration> Declared { get; } = [];

    /// <summary>Cells that cannot be read, by table; their values are null.</summary>
    public Dictionary<string, RowFault> Faults { get; } = [];

    /// <summary>Rows that are not taken, by the values of the first table they go to.</summary>
    public Func<object?[], bool> Refuses { get; set; } = _ => false;

    public bool IsComplete { get; private set; }

    public StoreIdentity Identity => new("Memory", "1", 0, new Dictionary<string, string>());

    public MemoryStore With(TableShape shape, params object?[][] rows)
    {
        Tables[shape.Name] = (shape, [.. rows]);
        return this;
    }

    public IReadOnlyList<TableShape> ReadShape() => [.. Tables.Values.Select(table => table.Shape)];

    public IReadOnlyList<StoreObject> ListObjects() => [];

    public IReadOnlyList<StoreDeclaration> Declarations() => Declared;

    public long CountRows(string table) => Tables[table].Rows.Count;

    public QueryAnswer Ask(string sql, TimeSpan? limit = null) => Answers[sql];

    public IReadOnlyList<string> CheckPhysically() => Complaints;

    public IRecordReader Read(TableShape table, IReadOnlyList<string> orderBy, KeyRange? within = null)
    {
        (TableShape shape, List<object?[]> rows) = Tables[table.Name];
        IEnumerable<object?[]> ordered = rows;
        foreach (string column in orderBy.Reverse())
            ordered = ordered.OrderBy(row => row[shape.OrdinalOf(column)],
                Comparer<object?>.Create((a, b) => a is string x && b is string y ? string.CompareOrdinal(x, y)
                    : Comparer<object?>.Default.Compare(a, b)));
        return new Reader([.. ordered.Select(row => table.Columns.Select(column => row[shape.OrdinalOf(column.Name)]).ToArray())],
            Faults.TryGetValue(table.Name, out RowFault fault) ? fault : null);
    }

    public BuildMark Mark() => new(Tables.ToDictionary(table => table.Key, table => new BuiltTable(table.Value.Rows.Count, [])));

    public void CreateTable(TableShape table) => Tables.Add(table.Name, (table, []));

    public void Write(IReadOnlyList<TableOutput> outputs, ReadOnlySpan<int> rows, List<RowReject> rejects)
    {
        foreach (int row in rows)
        {
            TableOutput? refused = outputs.FirstOrDefault(output => output.Table.Key.Count > 0
                && Tables[output.Table.Name].Rows.Any(there =>
                output.Table.Key.All(column => Equals(there[output.Table.OrdinalOf(column)],
                    Value(output.Vectors[output.Table.OrdinalOf(column)], row)))));
            if (Refuses([.. outputs[0].Vectors.Select(vector => Value(vector, row))]))
            {
                rejects.Add(new RowReject(row, FaultCode.WrongKind, "this engine cannot hold that"));
                continue;
            }
            if (refused is not null)
            {
                rejects.Add(new RowReject(row, FaultCode.DuplicateKey, $"{refused.Table.Name} has this key already"));
                continue;
            }
            foreach (TableOutput output in outputs) Tables[output.Table.Name].Rows.Add([.. output.Vectors.Select(vector =>
                Value(vector, row))]);
        }
    }

    public void Complete(IReadOnlyDictionary<string, string> headerFields) => IsComplete = true;

    public void Dispose() { }

    public static object? Value(Vector vector, int row) => vector.IsNull(row) ? null : vector switch
    {
        LongVector { Type.Kind: FieldKind.Boolean } longs => longs.Values[row] != 0,
        LongVector { Type.Kind: FieldKind.Date } longs => DateOnly.FromDayNumber((int)longs.Values[row]),
        LongVector longs => longs.Values[row],
        WideVector wides => wides.Values[row],
        BytesVector { Type.Kind: FieldKind.Text } bytes => Encoding.UTF8.GetString(bytes[row]),
        _ => vector.Show(row),
    };

    public static void Append(Vector vector, object? value)
    {
        switch (value)
        {
            case null: vector.AppendNull(); break;
            case int number: ((LongVector)vector).Append(number); break;
            case long number when vector.Type.Kind == FieldKind.Any: AnyValue.Append((BytesVector)vector, number); break;
            case string text when vector.Type.Kind == FieldKind.Any:
                AnyValue.Append((BytesVector)vector, AnyValue.Text, Encoding.UTF8.GetBytes(text));
                break;
            case long number: ((LongVector)vector).Append(number); break;
            case bool truth: ((LongVector)vector).Append(truth ? 1 : 0); break;
            case DateOnly day: ((LongVector)vector).Append(day.DayNumber); break;
            case Int128 units: ((WideVector)vector).Append(units); break;
            case string text: ((BytesVector)vector).Append(Encoding.UTF8.GetBytes(text)); break;
            default: throw new ArgumentException($"no {value.GetType()}", nameof(value));
        }
    }

    private sealed class Reader(List<object?[]> rows, RowFault? fault) : IRecordReader
    {
        private int _next;

        public bool Fill(RecordBatch batch)
        {
            while (!batch.IsFull)
            {
                if (_next == rows.Count) return false;
                if (fault is { } unreadable && unreadable.Row == _next) batch.Faults.Add(unreadable with { Row = batch.RowCount });
                object?[] row = rows[_next++];
                for (int column = 0; column < row.Length; column++) Append(batch.Vectors[column], row[column]);
            }
            return true;
        }

        public void Dispose() { }
    }
}

/// <summary>Hears progress and keeps what it heard.</summary>
internal sealed class ListObserver : Transferra.Core.Office.IRunObserver
{
    public List<string> Seen { get; } = [];

    public void Progress(string table, long rows, long ofRows) { }

    public void StageBegins(string company, string stage) => Seen.Add($"{company} {stage} begins");

    public void StageEnds(string company, string stage, string state, string summary, object? result) =>
        Seen.Add($"{company} {stage} {state}: {summary}");
}
