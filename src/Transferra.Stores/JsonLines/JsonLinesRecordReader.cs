// JsonLinesRecordReader.cs: the lines of one file as record batches. A key that is not there, or null, is not a value; a nested array or
// object is text as it stands; bytes are Base64 (RFC 4648), and all else is read as docs/formats/json-lines.md says.
// Holds: (1) a line that is not a JSON object is a fault of its row, with its number, and none is passed over; (2) a value that is not what
// its column is
// declared for is a fault of its row; (3) numbers are read from their digits, never through a double; (4) a changed file is refused at
// its end.
using System.Buffers;
using System.Buffers.Text;
using System.Text.Json;
using Transferra.Core.Records;
using Transferra.Stores.Files;
using Transferra.Stores.Text;

namespace Transferra.Stores.JsonLines;

internal sealed class JsonLinesRecordReader(LineReader lines, TableShape shape, string fileName, FileWatch watch) : RowReader
{
    private readonly Dictionary<string, int> _ordinals = shape.Columns.Select((column, i) => (column.Name, i))
        .ToDictionary(entry => entry.Name, entry => entry.i, StringComparer.OrdinalIgnoreCase);
    private readonly bool[] _filled = new bool[shape.Columns.Count];
    private byte[] _text = new byte[1 << 12];

    protected override bool Next()
    {
        if (lines.Next()) return true;
        watch.RefuseIfChanged();
        return false;
    }

    protected override void ReadRow(RecordBatch batch, int row)
    {
        if (Complaint(lines.Line) is { } complaint)
        {
            foreach (Vector vector in batch.Vectors) vector.AppendNull();
            batch.Faults.Add(new RowFault(row, FaultCode.WrongKind, "", CellText.Shown(lines.Line),
                FormattableString.Invariant($"line {lines.Number} of {fileName}: {complaint}")));
        }
        else ReadObject(batch, row);
    }

    /// <summary>Why a line is not a record; null when it is one.</summary>
    public static string? Complaint(ReadOnlySpan<byte> line)
    {
        try
        {
            var json = new Utf8JsonReader(line);
            if (!json.Read() || json.TokenType != JsonTokenType.StartObject) return "this is not a JSON object";
            while (json.Read())
                // Text that is not UTF-8 is found here, too.
                if (json.TokenType is JsonTokenType.String or JsonTokenType.PropertyName && json.CurrentDepth <= 1) json.GetString();
            return null;
        }
        catch (Exception error) when (error is JsonException or InvalidOperationException)
        {
            return "this is no JSON: " + error.Message.Split(" Path:")[0].Split(" LineNumber:")[0].TrimEnd('.');
        }
    }

    private void ReadObject(RecordBatch batch, int row)
    {
        Array.Clear(_filled);
        var json = new Utf8JsonReader(lines.Line);
        json.Read();
        while (json.Read() && json.TokenType == JsonTokenType.PropertyName)
        {
            bool known = _ordinals.TryGetValue(json.GetString()!, out int column);
            json.Read();
            int start = (int)json.TokenStartIndex;
            if (json.TokenType is JsonTokenType.StartObject or JsonTokenType.StartArray)
            {
                JsonTokenType nested = json.TokenType;
                json.Skip();
                if (known) Add(batch, row, column, nested, lines.Line[start..(int)json.BytesConsumed]);
                continue;
            }
            if (known) Add(batch, row, column, json.TokenType, json.TokenType == JsonTokenType.String ? Unescaped(ref json)
                : json.ValueSpan);
        }
        for (int column = 0; column < _filled.Length; column++)
            if (!_filled[column]) batch.Vectors[column].AppendNull();
    }

    private ReadOnlySpan<byte> Unescaped(ref Utf8JsonReader json)
    {
        if (_text.Length < json.ValueSpan.Length) _text = new byte[Math.Max(json.ValueSpan.Length, 2 * _text.Length)];
        return _text.AsSpan(0, json.CopyString(_text));
    }

    private void Add(RecordBatch batch, int row, int column, JsonTokenType token, ReadOnlySpan<byte> value)
    {
        Vector vector = batch.Vectors[column];
        // Named twice in one object, which of them is meant is anybody's guess.
        FaultCode? fault = null;
        string reason = "";
        if (_filled[column])
        {
            batch.Faults.Add(new RowFault(row, FaultCode.WrongKind, batch.Columns[column].Name, CellText.Shown(value),
                FormattableString.Invariant($"the line names it twice (line {lines.Number})")));
            return;
        }
        _filled[column] = true;
        if (token == JsonTokenType.Null)
        {
            vector.AppendNull();
            return;
        }
        bool isNested = token is JsonTokenType.StartObject or JsonTokenType.StartArray;
        if (isNested && vector.Type.Kind != FieldKind.Text) fault = FaultCode.WrongKind;
        else if (vector is BytesVector { Type.Kind: FieldKind.Binary } binary) fault = token == JsonTokenType.String
            ? AddBase64(binary, value) : FaultCode.WrongKind;
        else fault = CellText.TryAppend(vector, value);
        if (fault is not { } code) return;
        vector.AppendNull();
        reason = code == FaultCode.WrongKind ? $"this is not a {vector.Type}" : CellText.Reason(code, vector.Type);
        batch.Faults.Add(new RowFault(row, code, batch.Columns[column].Name, CellText.Shown(value),
            FormattableString.Invariant($"{reason} (line {lines.Number})")));
    }

    private static FaultCode? AddBase64(BytesVector vector, ReadOnlySpan<byte> text)
    {
        Span<byte> room = vector.Room(Base64.GetMaxDecodedFromUtf8Length(text.Length));
        if (Base64.DecodeFromUtf8(text, room, out _, out int written) != OperationStatus.Done) return FaultCode.WrongKind;
        vector.Added(written);
        return null;
    }

    public override void Dispose() => lines.Dispose();
}
