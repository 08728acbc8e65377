// DbfMender.cs: changes records of copied .dbf tables, by their numbers in the file. A record is taken out by its deletion mark, as the old program does it.
// Holds: (1) only bytes of the record itself are written; memos are not, and neither are the program's index files, which it has to build anew.
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
        string path = DbfFolder.Tables(folder).First(file => string.Equals(Path.GetFileNameWithoutExtension(file), table.Name, StringComparison.OrdinalIgnoreCase));
        _tables[table.Name] = (new DbfTable(path, textEncoding), new FileStream(path, FileMode.Open, FileAccess.ReadWrite, FileShare.Read));
        return new ColumnShape(PlaceColumn, FieldType.Integer);
    }

    private FileStream At(TableShape table, Vector places, int row, int offset, out DbfTable of)
    {
        (of, FileStream file) = _tables[table.Name];
        file.Position = of.Header.HeaderBytes + (((LongVector)places).Values[row] - 1) * of.Header.RecordBytes + offset;
        return file;
    }

    public void Delete(TableShape table, Vector places, int row) => At(table, places, row, 0, out _).WriteByte(DbfRecordReader.Deleted);

    public bool Update(TableShape table, Vector places, int row, ColumnShape column, string value)
    {
        DbfTable of = _tables[table.Name].Table;
        DbfField field = of.Header.Fields.First(field => string.Equals(field.Name, column.Name, StringComparison.OrdinalIgnoreCase));
        if (field.Kind is not ('C' or 'N' or 'F') || field.LengthBit >= 0) return false;
        byte[] bytes;
        try { bytes = (of.CodePage is null ? Encoding.ASCII : of.CodePage == DbfCodePages.Utf8 ? Encoding.UTF8 : TextEncodings.ByName(of.CodePage)).GetBytes(value); }
        catch (EncoderFallbackException) { return false; }
        if (bytes.Length > field.Length) return false;
        byte[] room = new byte[field.Length];
        room.AsSpan().Fill((byte)' ');
        bytes.CopyTo(room, field.Kind == 'C' ? 0 : field.Length - bytes.Length);
        At(table, places, row, field.Offset, out _).Write(room);
        return true;
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
