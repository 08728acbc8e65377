// DbfHeader.cs: the header of a .dbf file, read with suspicion: everything it says is compared with what is there.
// Layout: docs/formats/dbf.md. Why faults and not exceptions: a table whose header counts wrong is read as far as it goes, and the
// administrator is told where header and file disagree.
// Holds: (1) no offset outside the file or the record is ever used; (2) each disagreement is told with its byte offset.
using System.Buffers.Binary;
using System.Globalization;
using System.Text;
using Transferra.Core.Records;

namespace Transferra.Stores.Dbf;

/// <summary>What a header says, corrected by what is there.</summary>
/// <param name="Level">The level byte's meaning.</param>
/// <param name="Fields">In the record's order, without the null flags.</param>
/// <param name="NullFlags">The field of null flags; null when there is none.</param>
/// <param name="HeaderBytes">Where the records begin.</param>
/// <param name="RecordBytes">Bytes a record.</param>
/// <param name="Records">Records that are wholly there, deleted ones too.</param>
/// <param name="CountedRecords">Records that the header counts.</param>
/// <param name="Driver">Language-driver byte.</param>
/// <param name="Complaints">Where header and file disagree.</param>
internal sealed record DbfHeader(DbfLevel Level, IReadOnlyList<DbfField> Fields, DbfField? NullFlags, int HeaderBytes, int RecordBytes, long Records, long CountedRecords, byte Driver,
    IReadOnlyList<string> Complaints)
{
    private const int FixedBytes = 32, LongFixedBytes = 68, FieldBytes = 32, LongFieldBytes = 48;

    /// <summary>Reads the header of a file.</summary>
    /// <exception cref="TransferraException">It is no .dbf file, or cannot be read on.</exception>
    public static DbfHeader Read(Stream file, string path)
    {
        Span<byte> fixedPart = stackalloc byte[FixedBytes];
        int read = file.ReadAtLeast(fixedPart, FixedBytes, throwOnEndOfStream: false);
        if (read < FixedBytes) throw NoTable(path, string.Create(CultureInfo.InvariantCulture, $"it has {file.Length} bytes, and a header has at least {FixedBytes}"));
        DbfLevel level = DbfLevel.Of(fixedPart[0]) ?? throw NoTable(path, string.Create(CultureInfo.InvariantCulture, $"its level byte at offset 0 is {fixedPart[0]:X2}, which no known program writes"));
        if (fixedPart[15] == 1) throw new TransferraException($"{path} is encrypted (offset 15)", "Have the old program write it unencrypted, then try again.");
        long counted = BinaryPrimitives.ReadUInt32LittleEndian(fixedPart[4..]);
        int headerBytes = BinaryPrimitives.ReadUInt16LittleEndian(fixedPart[8..]), recordBytes = BinaryPrimitives.ReadUInt16LittleEndian(fixedPart[10..]);
        byte driver = fixedPart[29];
        int first = level.HasLongNames ? LongFixedBytes : FixedBytes, step = level.HasLongNames ? LongFieldBytes : FieldBytes;
        if (headerBytes < first + 1 || headerBytes > file.Length)
            throw NoTable(path, string.Create(CultureInfo.InvariantCulture, $"its header length at offset 8 is {headerBytes}, and the file has {file.Length} bytes"));
        if (recordBytes < 1) throw NoTable(path, "its record length at offset 10 is 0");
        byte[] header = new byte[headerBytes];
        file.Position = 0;
        file.ReadExactly(header);
        var complaints = new List<string>();
        List<DbfField> all = ReadFields(header, first, step, level, recordBytes, path, complaints);
        long room = file.Length - headerBytes, there = room / recordBytes;
        if (counted > there)
            complaints.Add(string.Create(CultureInfo.InvariantCulture, $"{path}: the header counts {counted} records (offset 4), but only {there} are wholly there; the file ends at offset {file.Length}"));
        else if (there > counted)
            complaints.Add(string.Create(CultureInfo.InvariantCulture, $"{path}: the header counts {counted} records (offset 4), but behind them, from offset {headerBytes + counted * recordBytes}, there is room for {there - counted} more"));
        long records = Math.Min(counted, there), end = headerBytes + records * recordBytes;
        if (end < file.Length && counted == there)
        {
            file.Position = end;
            if (file.ReadByte() is not 0x1A and int mark) complaints.Add(string.Create(CultureInfo.InvariantCulture, $"{path}: at offset {end}, where the end mark 1A should be, there is {mark:X2}"));
        }
        return new DbfHeader(level, [.. all.Where(field => field.Kind != '0')], all.FirstOrDefault(field => field.Kind == '0'), headerBytes, recordBytes, records, counted, driver, complaints);
    }

    private static List<DbfField> ReadFields(byte[] header, int first, int step, DbfLevel level, int recordBytes, string path, List<string> complaints)
    {
        var fields = new List<DbfField>();
        int offset = 1, bit = 0;
        for (int at = first; ; at += step)
        {
            if (at >= header.Length)
            {
                complaints.Add(string.Create(CultureInfo.InvariantCulture, $"{path}: the field list is not closed by 0D before the header ends at offset {header.Length}"));
                break;
            }
            if (header[at] == 0x0D) break;
            if (at + step > header.Length) throw NoTable(path, string.Create(CultureInfo.InvariantCulture, $"the field at offset {at} reaches beyond the header's end"));
            ReadOnlySpan<byte> entry = header.AsSpan(at, step);
            int nameBytes = level.HasLongNames ? 32 : 11, rest = nameBytes;
            ReadOnlySpan<byte> name = entry[..nameBytes];
            int zero = name.IndexOf((byte)0);
            string text = Encoding.Latin1.GetString(zero < 0 ? name : name[..zero]).Trim();
            char kind = (char)entry[rest];
            int length = level.HasLongNames ? entry[33] : entry[16], decimals = level.HasLongNames ? entry[34] : entry[17];
            byte flags = level.HasLongNames ? (byte)0 : entry[18];
            // Texts of more than 255 bytes keep the upper byte of their length in the place of the decimals.
            if (kind == 'C' && !level.HasLongNames)
            {
                length += decimals << 8;
                decimals = 0;
            }
            bool visual = level.IsVisual;
            if (kind != '0' && !DbfField.KnownKinds.Contains(kind)) throw NoTable(path, string.Create(CultureInfo.InvariantCulture, $"the field {ValueText.Quote(text)} at offset {at} has the type {(int)kind:X2}, which is not known"));
            if (length == 0 || offset + length > recordBytes)
                throw NoTable(path, string.Create(CultureInfo.InvariantCulture, $"the field {ValueText.Quote(text)} at offset {at} takes bytes {offset} to {offset + length} of a record of {recordBytes}"));
            int fixedLength = kind switch { 'D' => 8, 'L' => 1, 'T' or '@' or 'Y' or 'O' => 8, 'I' or '+' => 4, 'B' when visual => 8, _ => length };
            if (length != fixedLength) throw NoTable(path, string.Create(CultureInfo.InvariantCulture, $"the field {ValueText.Quote(text)} at offset {at} has {length} bytes, and a {kind} field has {fixedLength}"));
            // The bits of the null flags are dealt out in the fields' order: first the length bit of V and Q, then the null bit.
            int lengthBit = visual && kind is 'V' or 'Q' ? bit++ : -1;
            bool nullable = visual && (flags & 2) != 0 && kind != '0';
            fields.Add(new DbfField(text, kind, offset, length, decimals, nullable, visual && (flags & 4) != 0 && kind is 'C' or 'M' or 'V', nullable ? bit++ : -1, lengthBit));
            offset += length;
        }
        if (fields.Count == 0) throw NoTable(path, "its header lists no fields");
        if (offset < recordBytes) complaints.Add(string.Create(CultureInfo.InvariantCulture, $"{path}: the fields take {offset} bytes, but the record length at offset 10 is {recordBytes}"));
        if (fields.Find(field => field.Kind == '0') is { } nulls && bit > nulls.Length * 8)
            throw NoTable(path, string.Create(CultureInfo.InvariantCulture, $"{bit} null flags do not fit into {nulls.Length} bytes"));
        return fields;
    }

    private static TransferraException NoTable(string path, string why) =>
        new($"{path} cannot be read as a .dbf table: {why}", "Restore the file from the office's own backup; if it is no table, move it out of the store's folder.");
}
