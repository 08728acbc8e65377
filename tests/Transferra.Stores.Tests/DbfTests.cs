using System.Buffers.Binary;
using System.Diagnostics;
using System.Globalization;
using System.Text;
using Transferra.Core.Machine;
using Transferra.Core.Records;
using Transferra.Tests;

namespace Transferra.Stores.Tests;

public sealed class DbfTests : IDisposable
{
    private readonly TempFolder _folder = new();
    private readonly StoreOpener _stores = new();

    public void Dispose() => _folder.Dispose();

    private StoreAddress Here => new("dbf", _folder["tables"]);

    private string At(string file)
    {
        Directory.CreateDirectory(_folder["tables"]);
        return Path.Combine(_folder["tables"], file);
    }

    /// <summary>Builds .dbf files byte by byte from the published layout, apart from everything the program has.</summary>
    internal static byte[] Table(byte level, (string Name, char Kind, int Length, int Decimals, byte Flags)[] fields, byte[][] records,
        byte driver = 0,
        long? counted = null, bool endMark = true)
    {
        bool visual = level is 0x30 or 0x31 or 0x32, seven = level is 0x04 or 0x8C;
        int first = seven ? 68 : 32, step = seven ? 48 : 32, header = first + fields.Length * step + 1 + (visual ? 263 : 0),
            length = 1 + fields.Sum(field => field.Length);
        byte[] bytes = new byte[header + records.Length * length + (endMark ? 1 : 0)];
        bytes[0] = level;
        (bytes[1], bytes[2], bytes[3]) = (126, 11, 24);
        BinaryPrimitives.WriteUInt32LittleEndian(bytes.AsSpan(4), (uint)(counted ?? records.Length));
        BinaryPrimitives.WriteUInt16LittleEndian(bytes.AsSpan(8), (ushort)header);
        BinaryPrimitives.WriteUInt16LittleEndian(bytes.AsSpan(10), (ushort)length);
        bytes[29] = driver;
        for (int i = 0; i < fields.Length; i++)
        {
            Span<byte> entry = bytes.AsSpan(first + i * step, step);
            Encoding.Latin1.GetBytes(fields[i].Name, entry);
            entry[seven ? 32 : 11] = (byte)fields[i].Kind;
            entry[seven ? 33 : 16] = (byte)fields[i].Length;
            entry[seven ? 34 : 17] = (byte)(fields[i].Length > 255 ? fields[i].Length >> 8 : fields[i].Decimals);
            if (!seven) entry[18] = fields[i].Flags;
        }
        bytes[first + fields.Length * step] = 0x0D;
        for (int i = 0; i < records.Length; i++) records[i].CopyTo(bytes, header + i * length);
        if (endMark) bytes[^1] = 0x1A;
        return bytes;
    }

    private static byte[] Record(params object[] cells) =>
        [.. cells.SelectMany(cell => cell is string text ? Encoding.Latin1.GetBytes(text) : (byte[])cell)];

    private (string[] Rows, string[] Faults) Read(string table, string? textEncoding = null, params ColumnShape[] columns)
    {
        using IStore store = _stores.Open(Here, textEncoding);
        TableShape shape = store.ReadShape().Single(shape => string.Equals(shape.Name, table, StringComparison.OrdinalIgnoreCase));
        if (columns.Length > 0) shape = shape with { Columns = columns };
        var batch = new RecordBatch(shape.Columns);
        using IRecordReader reader = store.Read(shape, []);
        Assert.False(reader.Fill(batch));
        return ([.. Enumerable.Range(0, batch.RowCount)
            .Select(row => string.Join('|', batch.Vectors.Select(vector => vector.IsNull(row) ? "-" : vector.Show(row))))],
            [.. batch.Faults.Select(fault => $"{fault.Row} {fault.Column} {fault.Code} {fault.Value}")]);
    }

    [Fact]
    public void The_plain_fields_of_dBASE_III_are_read()
    {
        File.WriteAllBytes(At("CUST.DBF"), Table(0x03,
            [("NAME", 'C', 6, 0, 0), ("QTY", 'N', 4, 0, 0), ("PRICE", 'N', 8, 2, 0), ("RATE", 'F', 6, 3, 0), ("BORN", 'D', 8, 0, 0),
                ("PAID", 'L', 1, 0, 0)],
            [Record(" ", "Anna  ", "  12", "  -12.50", " 1.500", "20240229", "T"), Record("*", "gone  ", "   1", "    1.00", " 1.000",
                "20240101", "F"),
                Record(" ", "      ", "    ", "        ", "      ", "        ", "?")], driver: 0x02));
        (string[] rows, string[] faults) = Read("CUST");
        Assert.Equal(["Anna|12|-12.50|1.500|2024-02-29|true", "|-|-|-|-|-"], rows);
        Assert.Empty(faults);
        using IStore store = _stores.Open(Here);
        Assert.Equal(2, store.CountRows("cust"));
        Assert.Equal(("1", "03", "ibm850"), (store.Identity.HeaderFields["deleted_records"], store.Identity.HeaderFields["level"],
            store.Identity.HeaderFields["code_page"]));
        Assert.Equal(["VARCHAR(6)", "INTEGER", "DECIMAL(7,2)", "DECIMAL(5,3)", "DATE", "BOOLEAN"],
            store.ReadShape()[0].Columns.Select(column => column.Type.ToString()));
        Assert.Empty(store.CheckPhysically());
    }

    [Theory]
    [InlineData(0x83)]
    [InlineData(0x8B)]
    [InlineData(0xF5)]
    [InlineData(0x30)]
    public void Memos_of_every_form_are_read(int level)
    {
        byte[] text = Encoding.ASCII.GetBytes(new string('x', 700) + " end");
        byte[] memo = level switch
        {
            0x83 => [.. new byte[512], .. text, 0x1A, 0x1A, .. new byte[100]],
            0x8B => [.. Header(512, bytes => BinaryPrimitives.WriteUInt16LittleEndian(bytes.AsSpan(20), 512)), 0xFF, 0xFF, 0x08, 0x00,
                .. Little(text.Length + 8), .. text],
            _ => [.. Header(512, bytes => BinaryPrimitives.WriteUInt16BigEndian(bytes.AsSpan(6), 64)), 0, 0, 0, 1, .. Big(text.Length),
                .. text],
        };
        byte[] pointer = level == 0x30 ? Little(8) : Encoding.ASCII.GetBytes(level == 0xF5 ? "         8" : "         1"),
            none = level == 0x30
            ? Little(0) : "          "u8.ToArray();
        File.WriteAllBytes(At("NOTES.dbf"), Table((byte)level, [("TXT", 'M', pointer.Length, 0, 0)],
            [Record(" ", pointer), Record(" ", none)], driver: 0x03));
        File.WriteAllBytes(At(level is 0x83 or 0x8B ? "notes.dbt" : "notes.FPT"), memo);
        (string[] rows, string[] faults) = Read("NOTES");
        Assert.Equal([Encoding.ASCII.GetString(text), ""], rows);
        Assert.Empty(faults);

        static byte[] Header(int length, Action<byte[]> fill)
        {
            byte[] bytes = new byte[length];
            fill(bytes);
            return bytes;
        }
    }

    private static byte[] Little(int value) => BitConverter.GetBytes(value);

    private static byte[] Big(int value) => [.. BitConverter.GetBytes(value).Reverse()];

    [Fact]
    public void The_binary_fields_of_Visual_FoxPro_are_read_with_their_null_flags()
    {
        // Bits in order: V's length, V's null, N's null.
        File.WriteAllBytes(At("v.dbf"), Table(0x32,
            [("I", 'I', 4, 0, 0), ("Y", 'Y', 8, 4, 0), ("T", 'T', 8, 0, 0), ("B", 'B', 8, 2, 0), ("V", 'V', 5, 0, 2), ("N", 'N', 3, 0, 2),
            ("_NullFlags", '0', 1, 0, 5)],
        [
            Record(" ", Little(-5), BitConverter.GetBytes(12_345L), new byte[][] { Little(2_451_545), Little(43_200_001) }.SelectMany(b =>
                b).ToArray(),
                BitConverter.GetBytes(0.1), "ab\0\0\u0002", "  7", new byte[] { 0b001 }),
            Record(" ", Little(int.MinValue), BitConverter.GetBytes(-1L), new byte[8], BitConverter.GetBytes(-2.5), "abcde", "   ",
                new byte[] { 0b100 }),
            Record(" ", Little(0), new byte[8], new byte[8], new byte[8], "\0\0\0\0\0", "  1", new byte[] { 0b011 }),
        ], driver: 0x03));
        (string[] rows, string[] faults) = Read("v");
        Assert.Equal(["-5|1.2345|2000-01-01 12:00:00.001|0.1|ab|7", "-2147483648|-0.0001|-|-2.5|abcde|-", "0|0.0000|-|0|-|1"], rows);
        Assert.Empty(faults);
    }

    [Fact]
    public void The_fields_of_dBASE_7_are_read()
    {
        double millis = 2_451_545.0 * 86_400_000 + 1000;
        byte[] moment = [.. BitConverter.GetBytes(millis).Reverse()], real =
            [.. BitConverter.GetBytes(BitConverter.DoubleToInt64Bits(2.5) ^ long.MinValue).Reverse()], negative =
            [.. BitConverter.GetBytes(~BitConverter.DoubleToInt64Bits(-2.5)).Reverse()];
        File.WriteAllBytes(At("seven.dbf"), Table(0x04,
            [("A LONG NAME OF A FIELD", 'C', 3, 0, 0), ("N", 'I', 4, 0, 0), ("ID", '+', 4, 0, 0), ("AT", '@', 8, 0, 0),
                ("R", 'O', 8, 0, 0)],
            [Record(" ", "abc", Big(7 ^ int.MinValue), Big(1 ^ int.MinValue), moment, real),
                Record(" ", "   ", Big(-7 ^ int.MinValue), Big(2 ^ int.MinValue), new byte[8], negative)]));
        Assert.Equal(["abc|7|1|2000-01-01 00:00:01|2.5", "|-7|2|-|-2.5"], Read("seven").Rows);
    }

    [Theory]
    [InlineData(0x01, null, null, "\x82", "é")] // 437
    [InlineData(0x02, null, null, "\x9B", "ø")] // 850
    [InlineData(0x64, null, null, "\x9F", "č")] // 852
    [InlineData(0x65, null, null, "\x8F", "П")] // 866
    [InlineData(0xC8, null, null, "\xE8", "č")] // 1250
    [InlineData(0xC9, null, null, "\xCF", "П")] // 1251
    [InlineData(0x03, null, null, "\x80", "€")] // 1252
    [InlineData(0xCC, null, null, "\xFB", "ū")] // 1257
    [InlineData(0x03, "UTF-8", null, "\xC3\xA9", "é")] // the .cpg file tells better than the byte
    [InlineData(0x00, "1252", null, "\xE9", "é")]
    [InlineData(0x00, "ANSI 1251", null, "\xCF", "П")]
    [InlineData(0x03, null, "ibm850", "\x82", "é")] // the kit tells best
    public void Texts_are_decoded_by_the_code_page_that_is_told(int driver, string? cpg, string? kit, string stored, string text)
    {
        File.WriteAllBytes(At("t.dbf"), Table(0x03, [("T", 'C', 4, 0, 0)], [Record(" ", stored.PadRight(4))], (byte)driver));
        if (cpg is not null) File.WriteAllText(At("t.cpg"), cpg);
        Assert.Equal([text], Read("t", kit).Rows);
    }

    [Fact]
    public void What_a_cell_should_not_hold_is_a_fault_of_its_row()
    {
        File.WriteAllBytes(At("bad.dbf"), Table(0x83, [("N", 'N', 5, 2, 0), ("D", 'D', 8, 0, 0), ("L", 'L', 1, 0, 0),
            ("M", 'M', 10, 0, 0), ("T", 'C', 2, 0, 0)],
        [
            Record(" ", "*****", "20230231", "x", "        99", "\xE9 "), Record(" ", "1.2.3", "2023  01", "T", "abcdefghij", "ok"),
                Record(" ", " 1.25", "20230228", "T", "          ", "ok"),
        ]));
        File.WriteAllBytes(At("bad.dbt"), new byte[1024]);
        (string[] rows, string[] faults) = Read("bad");
        Assert.Equal(["-|-|-|-|-", "-|-|true|-|ok", "1.25|2023-02-28|true||ok"], rows);
        Assert.Equal(["0 N NotANumber *****", "0 D NotADate 20230231", "0 L NotABoolean x", "0 M MissingReference 99", "0 T NotText 0xE920",
            "1 N NotANumber 1.2.3", "1 D NotADate 2023  01", "1 M WrongKind abcdefghij"], faults);
    }

    [Theory]
    [InlineData(5, true, "the header counts 5 records (offset 4), but only 2 are wholly there")]
    [InlineData(1, true, "the header counts 1 records (offset 4), but behind them, from offset 68, there are 1 more")]
    public void A_header_that_counts_wrong_is_told_with_offsets_and_read_as_far_as_it_goes(int counted, bool endMark, string complaint)
    {
        File.WriteAllBytes(At("c.dbf"), Table(0x03, [("T", 'C', 2, 0, 0)], [Record(" ", "aa"), Record(" ", "bb")], counted: counted,
            endMark: endMark));
        using IStore store = _stores.Open(Here);
        Assert.Contains(complaint, Assert.Single(store.CheckPhysically()), StringComparison.Ordinal);
        Assert.Equal(Math.Min(counted, 2), store.CountRows("c"));
        Assert.Equal(("c", Math.Abs(2 - counted)), (store.Doubts.Single().Table, store.Doubts.Single().Records));
        // What is there is salvaged, counted or not; what is not there is told.
        var lost = new List<LostPart>();
        using IRecordReader reader = store.ReadWhatCanBe(store.ReadShape().Single(), lost);
        var batch = new RecordBatch(store.ReadShape().Single().Columns);
        reader.Fill(batch);
        Assert.Equal((2, counted == 5 ? 1 : 0), (batch.RowCount, lost.Count));
    }

    [Fact]
    public void What_lies_behind_the_end_mark_is_no_record()
    {
        byte[] bytes = [.. Table(0x03, [("T", 'C', 2, 0, 0)], [Record(" ", "aa")]), .. " bb bb"u8];
        File.WriteAllBytes(At("c.dbf"), bytes);
        using IStore store = _stores.Open(Here);
        Assert.Empty(store.Doubts);
        Assert.Equal(1, store.CountRows("c"));
    }

    [Fact]
    public void Fields_of_one_name_are_told_apart_by_their_position()
    {
        File.WriteAllBytes(At("d.dbf"), Table(0x03, [("NAME", 'C', 2, 0, 0), ("NAME_2", 'C', 2, 0, 0), ("name", 'N', 2, 0, 0),
            ("NAME", 'C', 2, 0, 0)],
            [Record(" ", "aa", "bb", "11", "cc"), Record(" ", "dd", "ee", "22", "ff")]));
        using IStore store = _stores.Open(Here);
        Assert.Equal(["NAME", "NAME_2", "name_3", "NAME_4"], store.ReadShape().Single().Columns.Select(column => column.Name));
        Assert.Equal(["aa|bb|11|cc", "dd|ee|22|ff"], Read("d").Rows);
        Assert.Equal(["cc|11"], Read("d", null, new ColumnShape("NAME_4", FieldType.Text),
            new ColumnShape("NAME_3", FieldType.Integer)).Rows[..1]);
        Assert.Equal(["field 3", "field 4"],
            store.Remarks.Select(remark => remark.What[(remark.What.IndexOf(": ", StringComparison.Ordinal) + 2)..][..7]));
    }

    [Theory] // what is declared, what stands there, the type that holds it all, and what is read
    [InlineData(12, 5, "2.035947E-01|     0.20359|-1.5E+03    ", "DECIMAL(13,7)", "0.2035947|0.2035900|-1500.0000000")]
    [InlineData(8, 2, "   12.50|12345678|  1.2345", "DECIMAL(12,4)", "12.5000|12345678.0000|1.2345")]
    [InlineData(8, 0, "      12|    1E+5|    3.00", "INTEGER", "12|100000|3")]
    [InlineData(8, 0, "      12|    1.25|-1234567", "DECIMAL(10,2)", "12.00|1.25|-1234567.00")]
    [InlineData(8, 2, "    1.50| 1.0E-70|    2.50", "DECIMAL(7,2)", "1.50|-|2.50")] // beyond all types: a fault of its row
    public void A_number_is_read_exactly_as_it_stands_there(int length, int decimals, string cells, string type, string values)
    {
        File.WriteAllBytes(At("n.dbf"), Table(0x03, [("N", 'N', length, decimals, 0)],
            [.. cells.Split('|').Select(cell => Record(" ", cell))]));
        using IStore store = _stores.Open(Here);
        Assert.Equal(type, store.ReadShape().Single().Columns.Single().Type.ToString());
        (string[] rows, string[] faults) = Read("n");
        Assert.Equal(values.Split('|'), rows);
        Assert.Equal(rows.Count(row => row == "-"), faults.Length);
        Assert.Equal(type == $"DECIMAL({length - 1},{decimals})" || decimals == 0 && type == "INTEGER" ? 0 : 1, store.Remarks.Count);
    }

    [Fact]
    public void Each_table_has_its_own_code_page_and_where_two_places_say_otherwise_that_is_told()
    {
        File.WriteAllBytes(At("a.dbf"), Table(0x03, [("T", 'C', 4, 0, 0)], [Record(" ", "\x82   ")], 0x02));
        File.WriteAllBytes(At("b.dbf"), Table(0x03, [("T", 'C', 4, 0, 0)], [Record(" ", "\xE9   ")], 0x02));
        File.WriteAllText(At("b.cpg"), "1252");
        // the .cpg file is of one table, the kit of all
        Assert.Equal(["é", "é"], Read("a", "ibm850").Rows.Concat(Read("b", "ibm850").Rows));
        using IStore store = _stores.Open(Here, "windows-1252");
        Assert.Equal("windows-1252", store.Identity.HeaderFields["code_page"]);
        Assert.Equal(2, store.Remarks.Count(remark =>
            remark.What.Contains("says that its text is in ibm850, and it is read as windows-1252", StringComparison.Ordinal)));
        using IStore bare = _stores.Open(Here);
        Assert.Equal("ibm850 (a); windows-1252 (b)", bare.Identity.HeaderFields["code_page"]);
    }

    [Theory]
    [InlineData(0, 0x77, "its level byte at offset 0 is 77")]
    [InlineData(8, 0xFF, "its header length at offset 8")]
    [InlineData(10, 0x02, "takes bytes 1 to 3 of a record of 2")]
    [InlineData(15, 0x01, "is encrypted (offset 15)")]
    [InlineData(43, 0x7A, "has the type 7A")]
    [InlineData(48, 0x00, "takes bytes 1 to 1")]
    public void A_header_that_makes_no_sense_is_refused_with_the_place(int offset, int value, string says)
    {
        byte[] bytes = Table(0x03, [("T", 'C', 2, 0, 0)], [Record(" ", "aa")]);
        bytes[offset] = (byte)value;
        File.WriteAllBytes(At("h.dbf"), bytes);
        Assert.Contains(says, Assert.Throws<TransferraException>(() => _stores.Open(Here)).Message, StringComparison.Ordinal);
    }

    [Fact]
    public void Damaged_bytes_end_in_a_refusal_or_in_faults_never_in_a_crash_or_a_hang()
    {
        int seed = Seeds.Given;
        var random = new Random(seed);
        byte[] dbf = Table(0x8B, [("N", 'N', 6, 2, 0), ("D", 'D', 8, 0, 0), ("M", 'M', 10, 0, 0), ("T", 'C', 9, 0, 0)],
            [.. Enumerable.Range(1, 20).Select(i => Record(i % 5 == 0 ? "*" : " ", "  1.50", "20240101", "         1", "some text"))],
                driver: 3);
        byte[] dbt = [.. new byte[512], 0xFF, 0xFF, 0x08, 0x00, .. Little(20), .. "hello, world"u8, .. new byte[490]];
        for (int trial = 0; trial < 1500; trial++)
        {
            byte[] a = [.. dbf], b = [.. dbt];
            for (int flips = random.Next(1, 6); flips > 0; flips--)
            {
                byte[] victim = random.Next(3) == 0 ? b : a;
                victim[random.Next(random.Next(2) == 0 ? Math.Min(victim.Length, 168) : victim.Length)] = (byte)random.Next(256);
            }
            if (random.Next(4) == 0) a = a[..random.Next(a.Length)];
            if (random.Next(8) == 0) b = b[..random.Next(b.Length)];
            File.WriteAllBytes(At("d.dbf"), a);
            File.WriteAllBytes(At("d.dbt"), b);
            try
            {
                using IStore store = _stores.Open(Here);
                store.CheckPhysically();
                TableShape shape = store.ReadShape()[0];
                var batch = new RecordBatch(shape.Columns);
                using IRecordReader reader = store.Read(shape, []);
                while (reader.Fill(batch)) batch.Reset();
                // No silent loss: what is counted is what is delivered.
                Assert.Equal(store.CountRows("d"), batch.RowCount);
            }
            catch (TransferraException) { /* refused in words */ }
            catch (Exception error) when (error is not Xunit.Sdk.XunitException)
            {
                Assert.Fail($"seed {seed}, trial {trial}: {error}");
            }
        }
    }

    private static readonly TableShape AllKinds = new("ALL_KINDS",
    [
        new("NR", FieldType.Integer, true), new("AMOUNT", FieldType.Decimal(14, 2)), new("WIDE", FieldType.Decimal(38, 10)),
            new("DAY", FieldType.Date),
            new("HOUR", new(FieldKind.Time)), new("MOMENT", new(FieldKind.Timestamp)),
        new("TXT", FieldType.Text), new("BRIEF", new(FieldKind.Text, Length: 3)), new("YES", FieldType.Boolean),
            new("BYTES", new(FieldKind.Binary)),
            new("ID", new(FieldKind.Uuid)), new("REAL", new(FieldKind.Double)),
    ], ["NR"], []);

    private static RecordBatch Written()
    {
        var batch = new RecordBatch(AllKinds.Columns, new BatchLimits(100, 1 << 24));
        Add(1, 0, 0, 0, 0, 0, "", "", 0, Array.Empty<byte>(), Int128.Zero, 0.1);
        Add(long.MaxValue, 99_999_999_999_999, DecimalText.PowerOfTen(38) - 1, ValueText.LastDay, 86_399_999_999, 315_537_897_599_999_000,
            "e\u0301 \U0001F3BB trailing  ", "äöü", 1, new byte[] { 0, 255, 26 }, -1, double.MaxValue);
        Add(long.MinValue, -99_999_999_999_999, 1 - DecimalText.PowerOfTen(38), 1, 1, 1000, "a\0b\u001A", "   ", 1, new byte[] { 1 },
            Int128.MaxValue, -0.5);
        Add(7, null, null, null, null, null, new string('x', 1_000_000), null, null, null, null, null);
        Add(8, null, null, null, null, null, null, null, null, null, null, null);
        return batch;

        void Add(params object?[] values)
        {
            for (int i = 0; i < values.Length; i++)
            {
                switch (batch.Vectors[i], values[i])
                {
                    case (var vector, null): vector.AppendNull(); break;
                    case (LongVector vector, var value and (int or long)):
                        vector.Append(Convert.ToInt64(value,
                        CultureInfo.InvariantCulture)); break;
                    case (WideVector vector, Int128 value): vector.Append(value); break;
                    case (WideVector vector, var value): vector.Append(Convert.ToInt64(value, CultureInfo.InvariantCulture)); break;
                    case (BytesVector vector, string value): vector.Append(Encoding.UTF8.GetBytes(value)); break;
                    case (BytesVector vector, byte[] value): vector.Append(value); break;
                    case (DoubleVector vector, double value): vector.Append(value); break;
                    default: throw new InvalidOperationException($"column {i}");
                }
            }
        }
    }

    private void Write(RecordBatch batch, List<RowReject> rejects, string? textEncoding = null)
    {
        using IStoreBuilder builder = _stores.Create(Here, textEncoding);
        builder.CreateTable(AllKinds);
        builder.Write([new TableOutput(AllKinds, batch.Vectors)], [.. Enumerable.Range(0, batch.RowCount)], rejects);
        builder.Complete(new Dictionary<string, string>());
    }

    [Fact]
    public void Every_kind_of_value_comes_back_as_it_was_written()
    {
        RecordBatch written = Written();
        var rejects = new List<RowReject>();
        Write(written, rejects);
        Assert.Empty(rejects);
        using IStore store = _stores.Open(Here);
        Assert.Empty(store.CheckPhysically());
        var read = new RecordBatch(AllKinds.Columns, new BatchLimits(100, 1 << 24));
        using IRecordReader reader = store.Read(AllKinds, []);
        Assert.False(reader.Fill(read));
        Assert.Empty(read.Faults);
        Assert.Equal(written.RowCount, read.RowCount);
        for (int row = 0; row < written.RowCount; row++)
            for (int column = 0; column < AllKinds.Columns.Count; column++)
                Assert.True(written.Vectors[column].SameAt(row, read.Vectors[column], row),
                    $"row {row}, {AllKinds.Columns[column].Name}: {written.Vectors[column].Show(row)} / {read.Vectors[column].Show(row)}");
    }

    [Fact]
    public void What_does_not_fit_is_refused_row_by_row_and_the_others_go_on()
    {
        var batch = new RecordBatch(AllKinds.Columns);
        Row(1, "ok", 1000);
        Row(2, "ok", 1001); // a microsecond
        Row(3, "Ж", 0); // not in the code page
        Row(4, "ok", 0);
        var rejects = new List<RowReject>();
        Write(batch, rejects, "windows-1252");
        Assert.Equal([(1, FaultCode.NeedsRounding), (2, FaultCode.NotText)], rejects.Select(reject => (reject.Row, reject.Code)));
        Assert.Contains("BRIEF", rejects[1].Reason, StringComparison.Ordinal);
        using IStore store = _stores.Open(Here);
        Assert.Equal((2, "windows-1252"), (store.CountRows("ALL_KINDS"), store.Identity.HeaderFields["code_page"]));

        void Row(long key, string brief, long moment)
        {
            for (int i = 0; i < batch.Vectors.Length; i++)
            {
                switch (AllKinds.Columns[i].Name)
                {
                    case "NR": ((LongVector)batch.Vectors[i]).Append(key); break;
                    case "BRIEF": ((BytesVector)batch.Vectors[i]).Append(Encoding.UTF8.GetBytes(brief)); break;
                    case "MOMENT": ((LongVector)batch.Vectors[i]).Append(moment); break;
                    default: batch.Vectors[i].AppendNull(); break;
                }
            }
        }
    }

    [Fact]
    public void A_builder_that_is_not_completed_leaves_nothing()
    {
        using (IStoreBuilder builder = _stores.Create(Here)) builder.CreateTable(AllKinds);
        Assert.False(Directory.Exists(Here.Path));
        Directory.CreateDirectory(Here.Path);
        Assert.Contains("there already", Assert.Throws<TransferraException>(() => _stores.Create(Here)).Message, StringComparison.Ordinal);
    }

    [Fact]
    public void Names_that_dbf_cannot_hold_are_refused_with_what_to_do()
    {
        using IStoreBuilder builder = _stores.Create(Here);
        foreach (string name in (string[])["a name with blanks", "TOOLONGANAME", "é", ""])
            Assert.Contains("cannot be a field", Assert.Throws<TransferraException>(() =>
                builder.CreateTable(new TableShape("T", [new(name, FieldType.Integer)], [], []))).Message, StringComparison.Ordinal);
    }

    [Fact]
    public void Rows_come_in_the_order_asked_for()
    {
        File.WriteAllBytes(At("o.dbf"), Table(0x03, [("A", 'C', 2, 0, 0), ("N", 'N', 3, 0, 0)],
            [Record(" ", "b ", "  1"), Record(" ", "a ", " 10"), Record(" ", "a ", "  9"), Record(" ", "  ", "  5")], driver: 3));
        using IStore store = _stores.Open(Here);
        TableShape shape = store.ReadShape()[0];
        var batch = new RecordBatch(shape.Columns);
        using IRecordReader reader = store.Read(shape, ["A", "N"]);
        reader.Fill(batch);
        Assert.Equal(["5", "9", "10", "1"], Enumerable.Range(0, 4).Select(row => batch.Vectors[1].Show(row)));
    }

    [Fact]
    public void A_table_changed_while_it_is_read_is_refused()
    {
        string path = At("w.dbf");
        byte[] bytes = Table(0x03, [("A", 'C', 2, 0, 0)], [Record(" ", "aa"), Record(" ", "bb")]);
        File.WriteAllBytes(path, bytes);
        using IStore store = _stores.Open(Here);
        TableShape shape = store.ReadShape()[0];
        using IRecordReader reader = store.Read(shape, []);
        File.WriteAllBytes(path, [.. bytes[..^1], .. Record(" ", "cc"), 0x1A]);
        Assert.Contains("changed while it was read",
            Assert.Throws<TransferraException>(() => reader.Fill(new RecordBatch(shape.Columns))).Message, StringComparison.Ordinal);
    }

    [Fact]
    public void A_folder_without_tables_is_refused()
    {
        Assert.Contains("not there", Assert.Throws<TransferraException>(() => _stores.Open(Here)).Message, StringComparison.Ordinal);
        Directory.CreateDirectory(Here.Path);
        Assert.Contains("no .dbf table", Assert.Throws<TransferraException>(() => _stores.Open(Here)).Message, StringComparison.Ordinal);
    }

    // The independent reader is Debian's python3-dbfread, which test.sh installs. It leaves a varchar's filling and length byte to its
    // caller.
    [Fact]
    public void What_is_written_opens_in_an_independent_reader()
    {
        var batch = new RecordBatch(AllKinds.Columns);
        RecordBatch all = Written();
        for (int row = 0; row < 2; row++)
            for (int column = 0; column < batch.Vectors.Length; column++) batch.Vectors[column].AppendFrom(all.Vectors[column], row);
        Write(batch, []);
        const string script = "import sys, dbfread\nfor r in dbfread.DBF(sys.argv[1], encoding='utf-8'):\n  print(r['NR'], r['AMOUNT'], "
            + "r['DAY'], r['MOMENT'], r['TXT'], r['BRIEF'].rstrip('\\0\\x06\\x03'), r['YES'], r['REAL'], sep='|')";
        using Process python = Process.Start(new ProcessStartInfo("/usr/bin/python3",
            ["-c", script, Path.Combine(Here.Path, "ALL_KINDS.dbf")])
        { RedirectStandardOutput = true, RedirectStandardError = true })!;
        string output = python.StandardOutput.ReadToEnd(), errors = python.StandardError.ReadToEnd();
        python.WaitForExit();
        Assert.True(python.ExitCode == 0, errors);
        string[] lines = output.TrimEnd('\n').Split('\n');
        Assert.Equal("1|0.0|0001-01-01|0001-01-01 00:00:00|||False|0.1", lines[0].Replace("None", "", StringComparison.Ordinal));
        Assert.Equal("9223372036854775807|999999999999.99|9999-12-31|9999-12-31 23:59:59.999000|e\u0301 \U0001F3BB trailing  "
            + "|äöü|True|1.7976931348623157e+308", lines[1]);
    }
}
