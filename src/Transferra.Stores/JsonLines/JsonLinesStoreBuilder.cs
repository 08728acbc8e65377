// JsonLinesStoreBuilder.cs: a new folder of .jsonl files, one for each table.
// Holds: (1) a row goes to all its tables or to none; (2) a value that JSON cannot hold is refused; (3) nothing is left of a folder whose
//        Complete did not return and of which no mark was taken; (4) when Complete or Mark returns, the files are on the disk.
using System.Text.Encodings.Web;
using System.Text.Json;
using Transferra.Core.Machine;
using Transferra.Core.Records;
using Transferra.Stores.Files;

namespace Transferra.Stores.JsonLines;

internal sealed class JsonLinesStoreBuilder : IStoreBuilder
{
    private static readonly JsonWriterOptions Options = new()
    {
        Encoder = JavaScriptEncoder.UnsafeRelaxedJsonEscaping,
        SkipValidation = true
    };

    private readonly string _folder;
    private readonly GrowingFiles _files;
    private CopyRest? _copy; // null unless the folder began as a copy
    private bool _isKept;

    private JsonLinesStoreBuilder(string folder)
    {
        _folder = folder;
        _files = new GrowingFiles(PathOf);
    }

    public static JsonLinesStoreBuilder Create(string folder)
    {
        if (Path.Exists(folder)) throw new TransferraException($"{folder} is there already; a new store is never written over another",
            "Move it away, then try again.");
        Directory.CreateDirectory(folder);
        return new JsonLinesStoreBuilder(folder);
    }

    /// <summary>Goes on with a folder that was begun.</summary>
    public static JsonLinesStoreBuilder Continue(string folder, IReadOnlyList<TableShape> tables, BuildMark mark)
    {
        BegunStore.RemoveOthers(folder, mark);
        var builder = new JsonLinesStoreBuilder(folder) { _isKept = true, _copy = mark.Copy };
        foreach ((TableShape shape, BuiltTable built) in BegunStore.Tables(folder, tables, mark))
            builder._files.Continue(shape.Name, built);
        return builder;
    }

    /// <inheritdoc/>
    public BuildMark Mark()
    {
        _files.Flush();
        new DiskVolume().FlushFolder(_folder);
        _isKept = true;
        return new BuildMark(_files.Built()) { Copy = _copy };
    }

    private string PathOf(string table) => Path.Combine(_folder, table + JsonLinesTable.Ending);

    public void CreateTable(TableShape table)
    {
        table = AnyValue.OneKind(table);
        if (table.Name.Length == 0 || table.Name.AsSpan().IndexOfAny('/', '\0') >= 0)
            throw new TransferraException($"{ValueText.Quote(table.Name)} cannot be the name of a file",
                "Name the table otherwise in the kit's version file.");
        _files.Make(table.Name);
    }

    public void Write(IReadOnlyList<TableOutput> outputs, ReadOnlySpan<int> rows, List<RowReject> rejects)
    {
        outputs = AnyValue.OneKind(outputs, ref rows, rejects, "a table of JSON lines");
        rows = Specials.Hold(outputs, rows, rejects, "JSON");
        MemoryStream[] lines = [.. outputs.Select(_ => new MemoryStream())];
        try
        {
            foreach (int row in rows)
            {
                for (int i = 0; i < outputs.Count; i++) Line(outputs[i], row, lines[i]);
            }
            for (int i = 0; i < outputs.Count; i++)
            {
                _files.Add(outputs[i].Table.Name, lines[i].GetBuffer().AsSpan(0, (int)lines[i].Length));
                _files.Count(outputs[i].Table.Name, rows.Length);
            }
        }
        catch (IOException error)
        {
            throw new TransferraException($"writing {_folder} stopped: {error.Message}",
                "Look for room on the disk and for its health. The old data is untouched; the half-written new store is removed.", error);
        }
    }

    private static void Line(TableOutput output, int row, MemoryStream into)
    {
        using (var json = new Utf8JsonWriter(into, Options))
        {
            json.WriteStartObject();
            for (int i = 0; i < output.Vectors.Count; i++)
            {
                json.WritePropertyName(output.Table.Columns[i].Name);
                Value(json, output.Vectors[i], row);
            }
            json.WriteEndObject();
        }
        into.WriteByte((byte)'\n');
    }

    private static void Value(Utf8JsonWriter json, Vector vector, int row)
    {
        if (vector.IsNull(row))
        {
            json.WriteNullValue();
            return;
        }
        switch (vector)
        {
            case BytesVector { Type.Kind: FieldKind.Binary } binary: json.WriteBase64StringValue(binary[row]); break;
            case BytesVector texts: json.WriteStringValue(texts[row]); break;
            case LongVector { Type.Kind: FieldKind.Boolean } truths: json.WriteBooleanValue(truths.Values[row] != 0); break;
            case LongVector { Type.Kind: FieldKind.Integer } or WideVector { Type.Kind: FieldKind.Decimal }
                or DoubleVector:
                json.WriteRawValue(vector.Show(row), skipInputValidation: true); break;
            default: json.WriteStringValue(vector.Show(row)); break;
        }
    }

    public void Complete(IReadOnlyDictionary<string, string> headerFields)
    {
        _files.Flush();
        _files.Dispose();
        _isKept = true;
    }

    public void Dispose()
    {
        _files.Dispose();
        if (!_isKept && Directory.Exists(_folder)) Directory.Delete(_folder, recursive: true);
    }
}
