// DbfMender.cs: changes records of copied .dbf tables, by their numbers in the file. A record is taken out by its deletion mark, as the
// old program does it.
// Holds: (1) only bytes of the record itself are written; memos are not, and neither are the program's index files, which it has to build
// anew.
using System.Text;
using Transferra.Core.Records;

namespace Transferra.Stores.Dbf;

internal sealed class DbfMender(string folder, string? textEncoding) : IStoreMender
{
    /// <summary>The name under which a reader delivers a record's number.</summary>
    public const string PlaceColumn = "transferra_place";

    private readonly Dictionary<string, (DbfTable Table, FileStream File)> _tables = new(StringComparer.OrdinalIgnoreCase);

    public bool HasPlacesOfOriginal => true;

    public ColumnShape Prepare(TableShape table)
    {
        string path = DbfFolder.Tables(folder).First(file => string.Equals(Path.GetFileNameWithoutExtension(file), table.Name,
            StringComparison.OrdinalIgnoreCase));
        _tables[table.Name] = (new DbfTable(path, TextPages.OfTable(textEncoding, table.Name)), new FileStream(path, FileMode.Open,
            FileAccess.ReadWrite, FileShare.Read));
        return new ColumnShape(PlaceColumn, FieldType.Integer);
    }

    private FileStream At(TableShape table, Vector places, int row, int offset)
    {
        (DbfTable of, FileStream file) = _tables[table.Name];
        file.Position = of.Header.HeaderBytes + (((LongVector)places).Values[row] - 1) * of.Header.RecordBytes + offset;
        return file;
    }

    public void Delete(TableShape table, Vector places, int row) => At(table, places, row, 0).WriteByte(DbfRecordReader.Deleted);

    public bool CanHold(TableShape table, ColumnShape column, string value) => Bytes(table, column, value) is not null;

    public void Update(TableShape table, Vector places, int row, IReadOnlyList<KeyValuePair<ColumnShape, string>> values)
    {
        foreach ((ColumnShape column, string value) in values)
        {
            (byte[] bytes, DbfField field) = (Bytes(table, column, value)!, FieldOf(table, column));
            byte[] room = new byte[field.Length];
            bool isShort = field.LengthBit >= 0 && bytes.Length < field.Length;
            if (field.LengthBit < 0) room.AsSpan().Fill((byte)' ');
            bytes.CopyTo(room, field.Kind is 'N' or 'F' ? field.Length - bytes.Length : 0);
            // A varchar that does not fill its field has its length in the last byte, and a bit that says so.
            if (isShort) room[^1] = (byte)bytes.Length;
            At(table, places, row, field.Offset).Write(room);
            if (field.LengthBit >= 0) SetBit(table, places, row, field.LengthBit, isShort);
            if (field.NullBit >= 0) SetBit(table, places, row, field.NullBit, false);
        }
    }

    private void SetBit(TableShape table, Vector places, int row, int bit, bool on)
    {
        int offset = _tables[table.Name].Table.Header.NullFlags!.Offset + bit / 8;
        int flags = At(table, places, row, offset).ReadByte();
        At(table, places, row, offset).WriteByte((byte)(on ? flags | 1 << (bit % 8) : flags & ~(1 << (bit % 8))));
    }

    private DbfField FieldOf(TableShape table, ColumnShape column) =>
        _tables[table.Name].Table.Header.Fields.First(field => string.Equals(field.Name, column.Name, StringComparison.OrdinalIgnoreCase));

    // A value's bytes; null when its field cannot hold it.
    private byte[]? Bytes(TableShape table, ColumnShape column, string value)
    {
        DbfTable of = _tables[table.Name].Table;
        DbfField field = FieldOf(table, column);
        if (field.Kind is not ('C' or 'V' or 'N' or 'F')) return null;
        try
        {
            byte[] bytes = (of.CodePage is null ? Encoding.ASCII : of.CodePage == DbfCodePages.Utf8 ? Encoding.UTF8
                : TextEncodings.ByName(of.CodePage)).GetBytes(value);
            return bytes.Length > field.Length ? null : bytes;
        }
        catch (EncoderFallbackException)
        {
            return null;
        }
    }

    public string RebuildIndexes() => "";

    public IReadOnlyList<PositionChange> SetPositions() => [];

    public void Complete()
    {
        foreach ((DbfTable _, FileStream file) in _tables.Values) file.Flush(flushToDisk: true);
    }

    public void Dispose()
    {
        foreach ((DbfTable _, FileStream file) in _tables.Values) file.Dispose();
    }
}
