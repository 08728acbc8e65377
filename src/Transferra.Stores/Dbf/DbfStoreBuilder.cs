// DbfStoreBuilder.cs: a new folder of .dbf tables in the Visual FoxPro form, the one that can hold nulls, exact texts and binary memos.
// What it cannot hold exactly (a microsecond, a text beyond its field, a character outside the code page) is refused row by row, never cut.
// Holds: (1) a row goes to all its tables or to none; (2) when Complete returns, every file is on the disk with its true count;
// (3) without Complete or a mark, nothing of the folder is left. Which type becomes which field: docs/types.md.
using System.Buffers.Binary;
using System.Globalization;
using System.Text;
using Transferra.Core.Machine;
using Transferra.Core.Records;
using Transferra.Stores.Files;

namespace Transferra.Stores.Dbf;

internal sealed class DbfStoreBuilder : IStoreBuilder
{
    private readonly string _folder;
    private readonly string? _pages;
    private readonly Dictionary<string, DbfTableWriter> _tables = [];
    private CopyRest? _copy; // null unless the folder began as a copy
    private bool _isKept;

    private DbfStoreBuilder(string folder, string? textEncoding)
    {
        (_folder, _pages) = (folder, textEncoding);
    }

    public static DbfStoreBuilder Create(string folder, string? textEncoding)
    {
        if (Path.Exists(folder)) throw new TransferraException($"{folder} is there already; a new store is never written over another",
            "Move it away, then try again.");
        Directory.CreateDirectory(folder);
        return new DbfStoreBuilder(folder, textEncoding);
    }

    /// <summary>Goes on with a folder that was begun.</summary>
    public static DbfStoreBuilder Continue(string folder, IReadOnlyList<TableShape> tables, BuildMark mark, string? textEncoding)
    {
        BegunStore.RemoveOthers(folder, mark);
        var builder = new DbfStoreBuilder(folder, textEncoding) { _isKept = true, _copy = mark.Copy };
        try
        {
            foreach ((TableShape shape, BuiltTable built) in BegunStore.Tables(folder, tables, mark))
                builder._tables.Add(shape.Name, DbfTableWriter.Continue(builder.PathOf(shape.Name), AnyValue.OneKind(shape),
                    TextPages.EncodingOf(textEncoding, shape.Name), TextPages.OfTable(textEncoding, shape.Name), built));
            return builder;
        }
        catch
        {
            builder.Dispose();
            throw;
        }
    }

    /// <inheritdoc/>
    public BuildMark Mark()
    {
        BuildMark mark = new(_tables.ToDictionary(table => table.Key, table => table.Value.Mark())) { Copy = _copy };
        new DiskVolume().FlushFolder(_folder);
        _isKept = true;
        return mark;
    }

    private string PathOf(string table) => Path.Combine(_folder, table + ".dbf");

    public void CreateTable(TableShape table)
    {
        table = AnyValue.OneKind(table);
        if (table.Name.Length == 0 || table.Name.AsSpan().IndexOfAny('/', '\0') >= 0)
            throw new TransferraException($"{ValueText.Quote(table.Name)} cannot be the name of a .dbf table: it is not a file name",
                "Name it otherwise in the kit's version file.");
        _tables.Add(table.Name, DbfTableWriter.To(PathOf(table.Name), table, TextPages.EncodingOf(_pages, table.Name),
            TextPages.OfTable(_pages, table.Name)));
    }

    public void Write(IReadOnlyList<TableOutput> outputs, ReadOnlySpan<int> rows, List<RowReject> rejects)
    {
        outputs = AnyValue.OneKind(outputs, ref rows, rejects, "a .dbf table");
        rows = Specials.Hold(outputs, rows, rejects, "a .dbf table");
        DbfTableWriter[] writers = [.. outputs.Select(output => _tables[output.Table.Name])];
        try
        {
            foreach (int row in rows)
            {
                RowReject? reject = null;
                for (int i = 0; i < writers.Length && reject is null; i++) reject = writers[i].Prepare(outputs[i].Vectors, row);
                if (reject is { } refused) rejects.Add(refused);
                else
                    foreach (DbfTableWriter writer in writers) writer.Take();
            }
        }
        catch (IOException error)
        {
            throw new TransferraException($"writing {_folder} stopped: {error.Message}",
                "Look for room on the disk and for its health. The old data is untouched; the half-written new store is removed.", error);
        }
    }

    public void Complete(IReadOnlyDictionary<string, string> headerFields)
    {
        foreach (DbfTableWriter table in _tables.Values)
        {
            table.Complete();
            table.Dispose();
        }
        _isKept = true;
    }

    public void Dispose()
    {
        foreach (DbfTableWriter table in _tables.Values) table.Dispose();
        if (!_isKept && Directory.Exists(_folder)) Directory.Delete(_folder, recursive: true);
    }
}

/// <summary>Writes one table and its memo file.</summary>
internal sealed class DbfTableWriter : IDisposable
{
    private enum How { Varchar, MemoText, MemoBinary, Whole, Decimal, DecimalText, Date, Timestamp, Boolean, Real, Spelt }

    private sealed record Column(string Name, How How, char Kind, int Length, int Decimals, bool IsNullable, int Offset, int NullBit,
        int LengthBit);

    private const int MostVarchar = 254, MostDigits = 20, NameBytes = 10, FixedBytes = 32, FieldBytes = 32, BacklinkBytes = 263,
        MemoBlock = 64, MemoHeader = 512;
    private const long MicrosPerDay = 86_400_000_000;

    // C fields for kinds that .dbf has none for: hh:mm:ss.ffffff, and a UUID.
    private const int TimeText = 15, UuidText = 36;

    private readonly Encoding? _encoding;
    private readonly Stream _file;
    private readonly Stream? _memo;
    private readonly Column[] _columns;
    private readonly int _flagsAt, _flagBytes;
    private readonly byte[] _record;
    private readonly List<(byte[] Value, int Offset, bool IsText)> _pendingMemos = [];
    private readonly string _tableName;
    private long _rows, _nextBlock = MemoHeader / MemoBlock;

    /// <summary>A writer of a table's files.</summary>
    public static DbfTableWriter To(string path, TableShape table, Encoding? encoding, string? codePage)
    {
        var writer = new DbfTableWriter(table, encoding, codePage, ending => new FileStream(Path.ChangeExtension(path, ending),
            FileMode.CreateNew, FileAccess.ReadWrite, FileShare.None, 1 << 16));
        // The language driver has no number for UTF-8, so that is said beside the table.
        if (codePage is null) File.WriteAllText(Path.ChangeExtension(path, ".cpg"), "UTF-8");
        return writer;
    }

    /// <summary>A writer that continues a table's files from where they ended at a mark.</summary>
    public static DbfTableWriter Continue(string path, TableShape table, Encoding? encoding, string? codePage, BuiltTable built)
    {
        var ends = new Queue<long>(built.Ends);
        return new DbfTableWriter(table, encoding, codePage, ending => BegunStore.OpenAt(Path.ChangeExtension(path, ending),
            ends.Dequeue()),
            isNew: false)
        { _rows = built.Rows, _nextBlock = built.Ends.Count > 1 ? built.Ends[1] / MemoBlock : MemoHeader / MemoBlock };
    }

    /// <summary>Flushes the files.</summary>
    /// <returns>How far they have come.</returns>
    public BuiltTable Mark()
    {
        FileStream[] files = [.. ((Stream?[])[_file, _memo]).OfType<FileStream>()];
        foreach (FileStream file in files) file.Flush(flushToDisk: true);
        return new BuiltTable(_rows, [.. files.Select(file => file.Length)]);
    }

    /// <summary>A writer that only puts rows together, to see what fits.</summary>
    public static DbfTableWriter ToNowhere(TableShape table, string? codePage) =>
        new(table, codePage is null ? null : TextEncodings.ByName(codePage), codePage, _ => Stream.Null);

    private DbfTableWriter(TableShape table, Encoding? encoding, string? codePage, Func<string, Stream> open, bool isNew = true)
    {
        (_encoding, _tableName) = (encoding, table.Name);
        var columns = new List<Column>();
        int offset = 1, bit = 0;
        foreach (ColumnShape shape in table.Columns)
        {
            if (shape.Name.Length is 0 or > NameBytes || shape.Name.Any(c => !char.IsAsciiLetterOrDigit(c) && c != '_'))
                throw new TransferraException($"{table.Name}.{shape.Name} cannot be a field of a .dbf table: names there have at most "
                    + $"{NameBytes} letters, digits and _", "Name it otherwise in the kit's version file.");
            (How how, char kind, int length, int decimals) = Field(shape, encoding is null ? 4 : 1);
            bool nullable = !shape.Required && !table.Key.Contains(shape.Name, StringComparer.OrdinalIgnoreCase);
            int lengthBit = how == How.Varchar ? bit++ : -1, nullBit = nullable ? bit++ : -1;
            columns.Add(new Column(shape.Name, how, kind, length, decimals, nullable, offset, nullBit, lengthBit));
            offset += length;
        }
        _columns = [.. columns];
        (_flagsAt, _flagBytes) = (offset, (bit + 7) / 8);
        _record = new byte[offset + _flagBytes];
        if (_record.Length > ushort.MaxValue)
            throw new TransferraException($"the table {table.Name} is too wide for .dbf: {_record.Length} bytes a record, and "
                + $"{ushort.MaxValue} is the most",
                "Split it in the kit's version file.");
        if (_columns.Length > 254)
            throw new TransferraException($"the table {table.Name} has too many columns for .dbf: {_columns.Length}, and 254 is the most",
                "Split it in the kit's version file.");
        _file = open(".dbf");
        if (isNew) WriteHeader(codePage);
        if (_columns.Any(column => column.How is How.MemoText or How.MemoBinary))
        {
            _memo = open(".fpt");
            if (isNew) _memo.Write(new byte[MemoHeader]);
        }
    }

    private static (How, char, int, int) Field(ColumnShape shape, int bytesPerCharacter) => shape.Type.Kind switch
    {
        FieldKind.Text when shape.Type.Length > 0 && shape.Type.Length * bytesPerCharacter <= MostVarchar =>
            (How.Varchar, 'V', shape.Type.Length * bytesPerCharacter, 0),
        FieldKind.Text => (How.MemoText, 'M', 4, 0),
        FieldKind.Binary => (How.MemoBinary, 'M', 4, 0),
        FieldKind.Integer => (How.Whole, 'N', MostDigits, 0),
        // The sign and the point take a place each.
        FieldKind.Decimal when shape.Type.Precision + 2 <= MostDigits =>
            (How.Decimal, 'N', shape.Type.Precision + (shape.Type.Scale > 0 ? 2 : 1), shape.Type.Scale),
        // A whole number as wide as the field: what has a sign as well is not taken. Such is what a numeric field of 19 or 20 is read as.
        FieldKind.Decimal when shape.Type.Scale == 0 && shape.Type.Precision <= MostDigits => (How.Decimal, 'N', MostDigits, 0),
        FieldKind.Decimal => (How.DecimalText, 'C', FieldType.MaxPrecision + 2, 0),
        FieldKind.Date => (How.Date, 'D', 8, 0),
        FieldKind.Timestamp => (How.Timestamp, 'T', 8, 0),
        FieldKind.Boolean => (How.Boolean, 'L', 1, 0),
        FieldKind.Double => (How.Real, 'B', 8, 15),
        FieldKind.Time => (How.Spelt, 'C', TimeText, 0),
        _ => (How.Spelt, 'C', UuidText, 0),
    };

    private void WriteHeader(string? codePage)
    {
        int fields = _columns.Length + (_flagBytes > 0 ? 1 : 0);
        byte[] header = new byte[FixedBytes + fields * FieldBytes + 1 + BacklinkBytes];
        header[0] = _columns.Any(column => column.How == How.Varchar) ? DbfLevel.VisualFoxProVarchar : DbfLevel.VisualFoxPro;
        DateTime today = DateTime.UtcNow;
        (header[1], header[2], header[3]) = ((byte)(today.Year - 2000), (byte)today.Month, (byte)today.Day);
        BinaryPrimitives.WriteUInt16LittleEndian(header.AsSpan(8), (ushort)header.Length);
        BinaryPrimitives.WriteUInt16LittleEndian(header.AsSpan(10), (ushort)_record.Length);
        header[28] = (byte)(_columns.Any(column => column.How is How.MemoText or How.MemoBinary) ? 2 : 0);
        header[29] = codePage is null ? (byte)0 : DbfCodePages.DriverOf(codePage);
        int at = FixedBytes;
        foreach (Column column in _columns)
        {
            byte flags = (byte)((column.IsNullable ? 2 : 0) | (column.How is How.MemoBinary or How.Real or How.Timestamp ? 4 : 0));
            Describe(header.AsSpan(at, FieldBytes), column.Name, column.Kind, column.Offset, column.Length, column.Decimals, flags);
            at += FieldBytes;
        }
        if (_flagBytes > 0)
        {
            Describe(header.AsSpan(at, FieldBytes), "_NullFlags", '0', _flagsAt, _flagBytes, 0, 5);
            at += FieldBytes;
        }
        header[at] = 0x0D;
        _file.Write(header);
    }

    private static void Describe(Span<byte> entry, string name, char kind, int offset, int length, int decimals, byte flags)
    {
        Encoding.ASCII.GetBytes(name, entry);
        entry[11] = (byte)kind;
        BinaryPrimitives.WriteInt32LittleEndian(entry[12..], offset);
        (entry[16], entry[17], entry[18]) = ((byte)length, (byte)decimals, flags);
    }

    /// <summary>Puts a row together; nothing is written yet.</summary>
    /// <returns>Why the row cannot be held exactly; null when it can.</returns>
    public RowReject? Prepare(IReadOnlyList<Vector> vectors, int row)
    {
        _record.AsSpan().Fill((byte)' ');
        _record.AsSpan(_flagsAt).Clear();
        _pendingMemos.Clear();
        for (int i = 0; i < _columns.Length; i++)
        {
            Column column = _columns[i];
            Span<byte> cell = _record.AsSpan(column.Offset, column.Length);
            if (column.How is How.Varchar or How.MemoText or How.MemoBinary or How.Timestamp or How.Real) cell.Clear();
            if (vectors[i].IsNull(row))
            {
                if (column.NullBit < 0) return new RowReject(row, FaultCode.MissingValue,
                    $"the new table {_tableName} refused the record: {column.Name} has no value");
                Set(column.NullBit);
            }
            else if (Put(column, cell, vectors[i], row) is { } fault)
                return new RowReject(row, fault, $"the new table {_tableName} cannot hold {column.Name} exactly: {Why(fault, column)}");
        }
        return null;
    }

    private static string Why(FaultCode fault, Column column) => fault switch
    {
        FaultCode.NotText => "a character is not in the code page",
        FaultCode.NeedsRounding => "a .dbf table keeps milliseconds, not less",
        _ => string.Create(CultureInfo.InvariantCulture, $"the field has {column.Length} bytes"),
    };

    private void Set(int bit) => _record[_flagsAt + bit / 8] |= (byte)(1 << (bit % 8));

    private FaultCode? Put(Column column, Span<byte> cell, Vector vector, int row)
    {
        switch (column.How)
        {
            case How.Varchar:
                if (!TryEncode((BytesVector)vector, row, out ReadOnlySpan<byte> text)) return FaultCode.NotText;
                if (text.Length > cell.Length) return FaultCode.TooLong;
                text.CopyTo(cell);
                if (text.Length == cell.Length) return null;
                cell[^1] = (byte)text.Length;
                Set(column.LengthBit);
                return null;
            case How.MemoText:
                if (!TryEncode((BytesVector)vector, row, out text)) return FaultCode.NotText;
                if (text.Length > 0) _pendingMemos.Add((text.ToArray(), column.Offset, true));
                return null;
            case How.MemoBinary:
                if (((BytesVector)vector)[row].Length > 0) _pendingMemos.Add((((BytesVector)vector)[row].ToArray(), column.Offset, false));
                return null;
            case How.Whole:
                return Spell(cell, ((LongVector)vector).Values[row].ToString(CultureInfo.InvariantCulture), right: true);
            case How.Decimal or How.DecimalText:
                return Spell(cell, DecimalText.Format(((WideVector)vector).Values[row], vector.Type.Scale),
                    right: column.How == How.Decimal);
            case How.Date:
                Span<byte> iso = stackalloc byte[10];
                ValueText.WriteDate(((LongVector)vector).Values[row], iso);
                iso[..4].CopyTo(cell);
                iso[5..7].CopyTo(cell[4..]);
                iso[8..].CopyTo(cell[6..]);
                return null;
            case How.Timestamp:
                (long day, long micros) = Math.DivRem(((LongVector)vector).Values[row], MicrosPerDay);
                if (micros % 1000 != 0) return FaultCode.NeedsRounding;
                BinaryPrimitives.WriteInt32LittleEndian(cell, (int)(day + DbfRecordReader.JulianDayOne));
                BinaryPrimitives.WriteInt32LittleEndian(cell[4..], (int)(micros / 1000));
                return null;
            case How.Boolean:
                cell[0] = ((LongVector)vector).Values[row] != 0 ? (byte)'T' : (byte)'F';
                return null;
            case How.Real:
                BinaryPrimitives.WriteDoubleLittleEndian(cell, ((DoubleVector)vector).Values[row]);
                return null;
            default:
                return Spell(cell, vector.Show(row), right: false);
        }
    }

    private static FaultCode? Spell(Span<byte> cell, string text, bool right)
    {
        if (text.Length > cell.Length) return FaultCode.TooLong;
        Encoding.ASCII.GetBytes(text, right ? cell[(cell.Length - text.Length)..] : cell);
        return null;
    }

    private bool TryEncode(BytesVector vector, int row, out ReadOnlySpan<byte> text)
    {
        text = vector[row];
        if (_encoding is null || Ascii.IsValid(text)) return true;
        try
        {
            text = _encoding.GetBytes(Encoding.UTF8.GetString(text));
            return true;
        }
        catch (EncoderFallbackException)
        {
            return false;
        }
    }

    /// <summary>Writes the row that was put together.</summary>
    public void Take()
    {
        Span<byte> head = stackalloc byte[8];
        foreach ((byte[] value, int offset, bool isText) in _pendingMemos)
        {
            BinaryPrimitives.WriteUInt32LittleEndian(_record.AsSpan(offset, 4), checked((uint)_nextBlock));
            BinaryPrimitives.WriteUInt32BigEndian(head, isText ? 1u : 0u);
            BinaryPrimitives.WriteUInt32BigEndian(head[4..], (uint)value.Length);
            _memo!.Write(head);
            _memo.Write(value);
            int used = 8 + value.Length, blocks = (used + MemoBlock - 1) / MemoBlock;
            _memo.Write(new byte[blocks * MemoBlock - used]);
            _nextBlock += blocks;
        }
        _file.Write(_record);
        _rows++;
    }

    /// <summary>Writes the end mark and the count, and flushes.</summary>
    public void Complete()
    {
        _file.WriteByte(0x1A);
        Span<byte> count = stackalloc byte[4];
        BinaryPrimitives.WriteUInt32LittleEndian(count, checked((uint)_rows));
        _file.Position = 4;
        _file.Write(count);
        ((FileStream)_file).Flush(flushToDisk: true);
        if (_memo is null) return;
        Span<byte> head = stackalloc byte[8];
        head.Clear();
        BinaryPrimitives.WriteUInt32BigEndian(head, checked((uint)_nextBlock));
        BinaryPrimitives.WriteUInt16BigEndian(head[6..], MemoBlock);
        _memo.Position = 0;
        _memo.Write(head);
        ((FileStream)_memo).Flush(flushToDisk: true);
    }

    public void Dispose()
    {
        _file.Dispose();
        _memo?.Dispose();
    }
}
