// DbfHeader.cs: the header of a .dbf file, read with suspicion: everything it says is compared with what is there.
// Layout: docs/formats/dbf.md. Why faults and not exceptions: a table whose header counts wrong is read as far as it goes, and the
// administrator is told where header and file disagree.
// Holds: (1) no offset outside the file or the record is ever used; (2) each disagreement is told with its byte offset.
using System.Buffers.Binary;
using System.Globalization;
using System.Text;
using Transferra.Core.Machine;
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
/// <param name="UncountedRecords">Records behind the last one that the header counts, which it should have counted.</param>
/// <param name="Complaints">Where header and file disagree.</param>
/// <param name="Remarks">What is odd and no damage.</param>
internal sealed record DbfHeader(DbfLevel Level, IReadOnlyList<DbfField> Fields, DbfField? NullFlags, int HeaderBytes, int RecordBytes,
    long Records,
    long CountedRecords, byte Driver, long UncountedRecords,
    IReadOnlyList<string> Complaints, IReadOnlyList<string> Remarks)
{
    private const int FixedBytes = 32;

    private const byte EndMark = 0x1A;

    /// <summary>Records in doubt: counted and not there, or there and not counted.</summary>
    public long RecordsInDoubt => CountedRecords - Records + UncountedRecords;

    /// <summary>Where things stand in a header: the first field entry, an entry's size, and offsets in an entry (Flags -1: none).</summary>
    private readonly record struct Layout(int FirstEntry, int EntryBytes, int NameBytes, int Kind, int Length, int Decimals, int Flags)
    {
        public static readonly Layout Usual = new(32, 32, 11, 11, 16, 17, 18), OfDBase7 = new(68, 48, 32, 32, 33, 34, -1);
    }

    /// <summary>Reads the header of a file.</summary>
    /// <exception cref="TransferraException">It is not a .dbf file, or cannot be read on.</exception>
    public static DbfHeader Read(Stream file, string path)
    {
        Span<byte> fixedPart = stackalloc byte[FixedBytes];
        int read = file.ReadAtLeast(fixedPart, FixedBytes, throwOnEndOfStream: false);
        if (read < FixedBytes) throw NoTable(path,
            FormattableString.Invariant($"it has {file.Length} bytes, and a header has at least {FixedBytes}"));
        DbfLevel level = DbfLevel.Of(fixedPart[0]) ?? throw NoTable(path,
            FormattableString.Invariant($"its level byte at offset 0 is {fixedPart[0]:X2}, which no known program writes"));
        if (fixedPart[15] == 1) throw new TransferraException($"{path} is encrypted (offset 15)",
            "Have the old program write it unencrypted, then try again.");
        long counted = BinaryPrimitives.ReadUInt32LittleEndian(fixedPart[4..]);
        int headerBytes = BinaryPrimitives.ReadUInt16LittleEndian(fixedPart[8..]),
            recordBytes = BinaryPrimitives.ReadUInt16LittleEndian(fixedPart[10..]);
        byte driver = fixedPart[29];
        Layout layout = level.HasLongNames ? Layout.OfDBase7 : Layout.Usual;
        if (headerBytes < layout.FirstEntry + 1 || headerBytes > file.Length)
            throw NoTable(path, string.Create(CultureInfo.InvariantCulture,
                $"its header length at offset 8 is {headerBytes}, and the file has {file.Length} bytes"));
        if (recordBytes < 1) throw NoTable(path, "its record length at offset 10 is 0");
        byte[] header = new byte[headerBytes];
        file.Position = 0;
        file.ReadExactly(header);
        var complaints = new List<string>();
        var remarks = new List<string>();
        List<DbfField> all = Distinct(ReadFields(header, layout, level, recordBytes, path, complaints), path, remarks);
        long there = (file.Length - headerBytes) / recordBytes, records = Math.Min(counted, there),
            end = headerBytes + records * recordBytes, uncounted = 0;
        if (counted > there)
            complaints.Add(string.Create(CultureInfo.InvariantCulture,
                $"{path}: the header counts {counted} records (offset 4), but only {there} are wholly there; the file ends at offset "
                    + $"{file.Length}"));
        else if (end < file.Length && ByteAt(file, end) is var mark and not EndMark)
        {
            uncounted = Uncounted(file, end, recordBytes);
            complaints.Add(uncounted > 0
                ? string.Create(CultureInfo.InvariantCulture,
                    $"{path}: the header counts {counted} records (offset 4), but behind them, from offset {end}, there are "
                        + $"{uncounted} more")
                : FormattableString.Invariant($"{path}: at offset {end}, where the end mark 1A should be, there is {mark:X2}"));
        }
        return new DbfHeader(level, [.. all.Where(field => field.Kind != '0')], all.FirstOrDefault(field => field.Kind == '0'),
            headerBytes, recordBytes,
            records, counted, driver, uncounted, complaints, remarks);
    }

    private static int ByteAt(Stream file, long offset)
    {
        file.Position = offset;
        return file.ReadByte();
    }

    // Whole records up to the end mark, or to the first bytes that do not begin like one.
    private static long Uncounted(Stream file, long from, int recordBytes)
    {
        long records = 0;
        for (long at = from; at + recordBytes <= file.Length
            && ByteAt(file, at) is ' ' or DbfRecordReader.Deleted; at += recordBytes) records++;
        return records;
    }

    // Two fields of one name are two fields, told apart by their position: the later one gets a number behind its name.
    private static List<DbfField> Distinct(List<DbfField> fields, string path, List<string> remarks)
    {
        var taken = new HashSet<string>(fields.Select(field => field.Name), StringComparer.OrdinalIgnoreCase);
        var seen = new HashSet<string>(StringComparer.OrdinalIgnoreCase);
        for (int i = 0; i < fields.Count; i++)
        {
            if (seen.Add(fields[i].Name)) continue;
            string name = fields[i].Name;
            for (int number = 2; !taken.Add(name); number++) name = FormattableString.Invariant($"{fields[i].Name}_{number}");
            remarks.Add(string.Create(CultureInfo.InvariantCulture,
                $"{path}: field {i + 1} of the record is called {ValueText.Quote(fields[i].Name)} like an earlier one, and is read as "
                    + $"{name}"));
            fields[i] = fields[i] with { Name = name };
        }
        return fields;
    }

    private static List<DbfField> ReadFields(byte[] header, Layout layout, DbfLevel level, int recordBytes, string path,
        List<string> complaints)
    {
        var fields = new List<DbfField>();
        int offset = 1, bit = 0, at = layout.FirstEntry;
        for (; at < header.Length && header[at] != 0x0D; at += layout.EntryBytes)
        {
            if (at + layout.EntryBytes > header.Length) throw NoTable(path,
                FormattableString.Invariant($"the field at offset {at} reaches beyond the header's end"));
            DbfField field = ReadField(header.AsSpan(at, layout.EntryBytes), layout, level, offset, ref bit);
            string which = FormattableString.Invariant($"the field {ValueText.Quote(field.Name)} at offset {at}");
            if (field.Kind != '0' && !DbfField.KnownKinds.Contains(field.Kind))
                throw NoTable(path, FormattableString.Invariant($"{which} has the type {(int)field.Kind:X2}, which is not known"));
            if (field.Length == 0 || offset + field.Length > recordBytes)
                throw NoTable(path, string.Create(CultureInfo.InvariantCulture,
                    $"{which} takes bytes {offset} to {offset + field.Length} of a record of {recordBytes}"));
            if (field.FixedLength(level) is { } length && length != field.Length)
                throw NoTable(path, string.Create(CultureInfo.InvariantCulture,
                    $"{which} has {field.Length} bytes, and a {field.Kind} field has {length}"));
            fields.Add(field);
            offset += field.Length;
        }
        if (at >= header.Length) complaints.Add(string.Create(CultureInfo.InvariantCulture,
            $"{path}: the field list is not closed by 0D before the header ends at offset {header.Length}"));
        if (fields.Count == 0) throw NoTable(path, "its header lists no fields");
        if (offset < recordBytes) complaints.Add(string.Create(CultureInfo.InvariantCulture,
            $"{path}: the fields take {offset} bytes, but the record length at offset 10 is {recordBytes}"));
        if (fields.Find(field => field.Kind == '0') is { } nulls && bit > nulls.Length * 8)
            throw NoTable(path, FormattableString.Invariant($"{bit} null flags do not fit into {nulls.Length} bytes"));
        return fields;
    }

    // The bits of the null flags are dealt out in the fields' order: first the length bit of V and Q, then the null bit.
    private static DbfField ReadField(ReadOnlySpan<byte> entry, Layout layout, DbfLevel level, int offset, ref int bit)
    {
        ReadOnlySpan<byte> name = entry[..layout.NameBytes];
        int zero = name.IndexOf((byte)0);
        char kind = (char)entry[layout.Kind];
        int length = entry[layout.Length], decimals = entry[layout.Decimals], flags = layout.Flags < 0 || !level.IsVisual ? 0
            : entry[layout.Flags];
        // Texts of more than 255 bytes keep the upper byte of their length in the place of the decimals.
        if (kind == 'C' && !level.HasLongNames) (length, decimals) = (length + (decimals << 8), 0);
        int lengthBit = level.IsVisual && kind is 'V' or 'Q' ? bit++ : -1;
        bool nullable = (flags & 2) != 0 && kind != '0';
        return new DbfField(Encoding.Latin1.GetString(zero < 0 ? name : name[..zero]).Trim(), kind, offset, length, decimals, nullable,
            (flags & 4) != 0 && kind is 'C' or 'M' or 'V', nullable ? bit++ : -1, lengthBit);
    }

    private static TransferraException NoTable(string path, string why) =>
        new($"{path} cannot be read as a .dbf table: {why}",
            "Restore the file from the office's own backup; if it is not a table, move it out of the store's folder.");
}
