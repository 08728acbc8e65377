using System.Text;
using Transferra.Core.Machine;
using Transferra.Core.Matching;
using Transferra.Core.Records;
using Transferra.Stores.Text;
using Transferra.Tests;

namespace Transferra.Stores.Tests;

/// <summary>What every engine must do, and that records come through any two of them with equal fingerprints.</summary>
public sealed partial class ConformanceTests : IDisposable
{
    public static readonly string[] Engines = ["sqlite", "dbf", "delimited", "json-lines", "postgresql", "mariadb", "firebird"];

    public static TheoryData<string> EachEngine => [.. Engines];

    public static TheoryData<string, string> EachPair
    {
        get
        {
            var pairs = new TheoryData<string, string>();
            foreach (string from in Engines)
                foreach (string to in Engines) pairs.Add(from, to);
            return pairs;
        }
    }

    private readonly TempFolder _folder = new();
    private readonly StoreOpener _stores = new();

    private readonly TestServers _servers = new();

    public void Dispose()
    {
        _servers.Dispose();
        _folder.Dispose();
    }

    private readonly Dictionary<string, StoreAddress> _known = [];

    private StoreAddress At(string engine, string name) => _known.TryGetValue(name, out StoreAddress? known) ? known
        : _known[name] = Made(engine, name);

    private StoreAddress Made(string engine, string name) => StoreAddress.ServerEngines.Contains(engine)
        ? _servers.Database(engine, name) : new(engine, _folder[name], engine == "delimited" ? new Dictionary<string,
            string>
        { ["separator"] = ";" } : null);

    // Names that every engine can hold; what is special to one is in that engine's own tests.
    private static readonly TableShape Values = new("VALS",
    [
        new("NR", FieldType.Integer, true), new("AMOUNT", FieldType.Decimal(14, 2)), new("WIDE", FieldType.Decimal(38, 10)),
            new("DAY", FieldType.Date),
            new("HOUR", new(FieldKind.Time)), new("MOMENT", new(FieldKind.Timestamp)),
        new("TXT", FieldType.Text), new("BRIEF", new(FieldKind.Text, Length: 8)), new("YES", FieldType.Boolean),
            new("BYTES", new(FieldKind.Binary)),
            new("ID", new(FieldKind.Uuid)), new("REAL", new(FieldKind.Double)),
        new("FOUR", new(FieldKind.Text, Length: 4)), // of 16 bytes in UTF-8, which one driver takes for something else
    ], ["NR"], []);

    private static readonly TableShape Empty = new("NOTHING", [new("A", FieldType.Integer), new("B", FieldType.Text)], [], []);

    private static readonly TableShape Keyless = new("KEYLESS", [new("A", FieldType.Text), new("B", FieldType.Integer)], [], []);

    private static readonly TableShape Composite = new("COMPOSITE",
        [new("A", new(FieldKind.Text, Length: 10), true), new("B", FieldType.Integer, true), new("C", FieldType.Decimal(18, 4))],
            ["A", "B"], []);

    private static readonly string[] Texts =
    [
        "", " ", "  leading and trailing  ", "plain", "quote \" and 'quote'", "a;b,c\td|e", "line\nbreak\r\nand more\r", "NULL", "\\N",
            "e\u0301 combining",
            "\U0001F3BB\U0001F3B7 beyond the plane", "ÄÖÜ ß € ž Ж 漢字", "\u0001\u001A control", "-", "0", "é",
    ];

    private static readonly double[] Doubles = [double.MaxValue, double.Epsilon, -0.0, 0.1];

    private static RecordBatch Rows()
    {
        var batch = new RecordBatch(Values.Columns, new BatchLimits(10_000, 1 << 26));
        var random = new Random(26);
        for (int row = 0; row < 400; row++)
        {
            bool rare = row % 7 == 0;
            ((LongVector)batch.Vectors[0]).Append(row switch { 0 => long.MinValue, 1 => long.MaxValue, _ => row });
            Wide(1, row switch { 2 => 99_999_999_999_999, 3 => -99_999_999_999_999, 4 => 0, _ => random.Next(-1_000_000, 1_000_000) });
            Wide(2, row switch
            {
                2 => DecimalText.PowerOfTen(38) - 1,
                3 => 1 - DecimalText.PowerOfTen(38),
                4 => 1,
                _ => (Int128)random.NextInt64() * random.NextInt64(1_000_000)
            });
            Long(3, row switch { 2 => 0, 3 => ValueText.LastDay, _ => random.Next(700_000, 760_000) });
            // Firebird keeps ten-thousandths of a second
            Long(4, row switch { 2 => 0, 3 => 86_399_999_900, _ => random.NextInt64(864_000_000) * 100 });
            Long(5, row switch
            {
                2 => 0,
                3 => 315_537_897_599_999_000,
                _ => random.NextInt64(730_000, 750_000) * 86_400_000_000
                + random.Next(86_400_000) * 1000L
            });
            Text(6, row == 5 ? new string('x', 1_000_000) : Texts[row % Texts.Length] + (row > 100 ? row : ""));
            Text(7, Texts[row % Texts.Length].Length <= 8 ? Texts[row % Texts.Length] : "brief");
            Long(8, row % 2);
            if (rare) batch.Vectors[9].AppendNull();
            else ((BytesVector)batch.Vectors[9]).Append(row % 3 == 0 ? [] : [0, (byte)row, 0x1A, 255]);
            Wide(10, ((Int128)random.NextInt64() << 64) | (ulong)random.NextInt64());
            if (rare) batch.Vectors[11].AppendNull();
            else ((DoubleVector)batch.Vectors[11]).Append(row is >= 1 and <= 4 ? Doubles[row - 1] : random.NextDouble() * 1e9);
            Text(12, (row % 5) switch { 0 => "", 1 => "kg", 2 => "\U0001F3BB\U0001F3B7\U0001F3BA\U0001F941", _ => "pair" });

            void Wide(int column, Int128 value)
            {
                if (rare && column != 10) batch.Vectors[column].AppendNull();
                else ((WideVector)batch.Vectors[column]).Append(value);
            }

            void Long(int column, long value)
            {
                if (rare) batch.Vectors[column].AppendNull();
                else ((LongVector)batch.Vectors[column]).Append(value);
            }

            void Text(int column, string value)
            {
                if (rare && row % 14 == 0) batch.Vectors[column].AppendNull();
                else ((BytesVector)batch.Vectors[column]).Append(Encoding.UTF8.GetBytes(value));
            }
        }
        return batch;
    }

    private static RecordBatch Few(TableShape table)
    {
        var batch = new RecordBatch(table.Columns);
        for (int row = 0; row < (table == Empty ? 0 : 50); row++)
        {
            foreach (Vector vector in batch.Vectors)
            {
                switch (vector)
                {
                    case LongVector { Type.Kind: FieldKind.Boolean } truths: truths.Append(row % 2); break;
                    case LongVector longs: longs.Append(row % 10); break;
                    case WideVector wides: wides.Append(row * 10_001L); break;
                    case BytesVector bytes: bytes.Append(Encoding.UTF8.GetBytes("k" + row / 10)); break;
                }
            }
        }
        return batch;
    }

    private void Write(StoreAddress to, params (TableShape Table, IReadOnlyList<Vector> Vectors, int Rows)[] tables)
    {
        using IStoreBuilder builder = _stores.Create(to);
        foreach ((TableShape table, _, _) in tables) builder.CreateTable(table);
        var rejects = new List<RowReject>();
        foreach ((TableShape table, IReadOnlyList<Vector> vectors, int rows) in tables) builder.Write([new TableOutput(table, vectors)],
            [.. Enumerable.Range(0, rows)], rejects);
        Assert.Empty(rejects.Select(reject => $"{reject.Row}: {reject.Reason}"));
        builder.Complete(new Dictionary<string, string>());
    }

    private static string FingerprintOf(TableShape table, RecordBatch batch, IEnumerable<int>? rows = null)
    {
        var memory = new BucketedFingerprint();
        var bytes = new CanonicalWriter();
        foreach (int row in rows ?? Enumerable.Range(0, batch.RowCount))
        {
            bytes.Clear();
            foreach (Vector vector in batch.Vectors) vector.Encode(row, bytes);
            memory.Add([], bytes.Written);
        }
        return $"{table.Name} {memory.Total().Rows} {memory.Total()}";
    }

    private string[] FingerprintsOf(StoreAddress address, params TableShape[] tables)
    {
        using IStore store = _stores.Open(address);
        Assert.Empty(store.CheckPhysically());
        IReadOnlyList<TableBaseline> baseline = Baseline.Of(store, tables, new ListObserver(), CancellationToken.None);
        Assert.All(baseline, table => Assert.Equal(0, table.Unreadable));
        return [.. baseline.Select(table => $"{table.Table} {table.Records} {table.Fingerprint}")];
    }

    [Theory]
    [MemberData(nameof(EachPair))]
    public void Records_come_through_any_two_engines_unchanged(string first, string second)
    {
        TableShape[] tables = [Values, Empty, Keyless, Composite];
        RecordBatch[] rows = [Rows(), Few(Empty), Few(Keyless), Few(Composite)];
        string[] expected = [.. tables.Select((table, i) => FingerprintOf(table, rows[i]))];
        Write(At(first, "one"), [.. tables.Select((table, i) => (table, (IReadOnlyList<Vector>)rows[i].Vectors, rows[i].RowCount))]);
        Assert.Equal(expected, FingerprintsOf(At(first, "one"), tables));
        using (IStore store = _stores.Open(At(first, "one")))
        {
            using IStoreBuilder builder = _stores.Create(At(second, "two"));
            foreach (TableShape table in tables)
            {
                builder.CreateTable(table);
                var rejects = new List<RowReject>();
                foreach (RecordBatch batch in store.Batches(table, table.Key, CancellationToken.None))
                    builder.Write([new TableOutput(table, batch.Vectors)], [.. Enumerable.Range(0, batch.RowCount)], rejects);
                Assert.Empty(rejects);
            }
            builder.Complete(new Dictionary<string, string>());
        }
        Assert.Equal(expected, FingerprintsOf(At(second, "two"), tables));
    }

    [Theory]
    [MemberData(nameof(EachEngine))]
    public void Counts_names_and_order_are_told(string engine)
    {
        RecordBatch rows = Few(Composite);
        Write(At(engine, "s"), (Composite, rows.Vectors, rows.RowCount), (Empty, Few(Empty).Vectors, 0));
        using IStore store = _stores.Open(At(engine, "s"));
        Assert.Equal(["COMPOSITE", "NOTHING"], store.ReadShape().Select(table => table.Name));
        Assert.Equal(["A", "B", "C"], store.ReadShape()[0].Columns.Select(column => column.Name));
        Assert.Equal((50, 0), (store.CountRows("COMPOSITE"), store.CountRows("NOTHING")));
        RecordBatch ordered = store.Batches(Composite, ["B", "A"], CancellationToken.None).Single();
        string[] keys = [.. Enumerable.Range(0, ordered.RowCount).Select(row => ordered.ShowKey(row, [1, 0]))];
        Assert.Equal(keys.Order(StringComparer.Ordinal), keys);
        Assert.True(store.Identity.Bytes > 0);
    }

    private static readonly TableShape Unending = new("UNENDING", [new("NR", FieldType.Integer, true), new("RATIO", new(FieldKind.Double)),
        new("AMOUNT", FieldType.Decimal(12, 2)), new("DAY", FieldType.Date), new("MOMENT", new(FieldKind.Timestamp))], ["NR"], []);

    // Each row has one value that is not finite, the last one none.
    private static readonly (int Column, string Shown, string HeldBy)[] NotFinite =
    [
        (1, "NaN", "postgresql delimited"), (1, "Infinity", "postgresql delimited sqlite"), (1, "-Infinity", "postgresql delimited sqlite"),
        (2, "NaN", "postgresql delimited"), (2, "Infinity", "delimited"), (2, "-Infinity", "delimited"),
        (3, "infinity", "postgresql delimited"), (3, "-infinity", "postgresql delimited"),
        (4, "infinity", "postgresql delimited"), (4, "-infinity", "postgresql delimited"), (0, "", string.Join(' ', Engines)),
    ];

    [Theory]
    [MemberData(nameof(EachEngine))]
    public void What_is_not_finite_is_held_as_it_is_or_refused_in_words(string engine)
    {
        RecordBatch rows = NotFiniteRows(isNumbered: true);
        var rejects = new List<RowReject>();
        using (IStoreBuilder builder = _stores.Create(At(engine, "s")))
        {
            builder.CreateTable(Unending);
            builder.Write([new TableOutput(Unending, rows.Vectors)], [.. Enumerable.Range(0, rows.RowCount)], rejects);
            builder.Complete(new Dictionary<string, string>());
        }
        int[] held = [.. Enumerable.Range(0, NotFinite.Length).Where(row => NotFinite[row].HeldBy.Split(' ').Contains(engine))];
        Assert.Equal(Enumerable.Range(0, NotFinite.Length).Except(held), rejects.Select(reject => reject.Row).Order());
        Assert.All(rejects, reject => Assert.Contains($"has no {NotFinite[reject.Row].Shown} in", reject.Reason, StringComparison.Ordinal));
        Assert.Equal([FingerprintOf(Unending, rows, held)], FingerprintsOf(At(engine, "s"), Unending));
        using IStore store = _stores.Open(At(engine, "s"));
        RecordBatch read = store.Batches(Unending, ["NR"], CancellationToken.None).Single();
        Assert.Equal(held.Select(row => NotFinite[row].Shown), Enumerable.Range(0, read.RowCount)
            .Select(row => Enumerable.Range(1, 4).Select(column => read.Vectors[column].Show(row)).FirstOrDefault(IsSpecial) ?? ""));

        static bool IsSpecial(string shown) => shown.Contains("nf", StringComparison.Ordinal) || shown == "NaN";
    }

    [Fact]
    public void Each_value_that_is_not_finite_has_a_fingerprint_of_its_own()
    {
        RecordBatch rows = NotFiniteRows(isNumbered: false);
        string[] each = [.. Enumerable.Range(0, NotFinite.Length).Select(row => FingerprintOf(Unending, rows, [row]))];
        Assert.Equal(each.Length, each.Distinct().Count());
    }

    private static RecordBatch NotFiniteRows(bool isNumbered)
    {
        var batch = new RecordBatch(Unending.Columns, BatchLimits.Default);
        foreach ((int column, string shown, _) in NotFinite)
        {
            ((LongVector)batch.Vectors[0]).Append(isNumbered ? batch.Vectors[0].Count : 1);
            for (int i = 1; i < batch.Vectors.Length; i++)
                Assert.Null(CellText.TryAppend(batch.Vectors[i], Encoding.UTF8.GetBytes(i == column ? shown : i switch
                {
                    1 => "-0",
                    2 => "0.00",
                    3 => "2026-01-31",
                    _ => "2026-01-31 12:00:00",
                })));
        }
        return batch;
    }

    // Names with blanks, quotation marks, accents, reserved words and signs; .dbf tables have names of ten plain characters and no such.
    private static readonly TableShape Awkward = new("Order by \"the\" `house` & co's",
        [new("select", FieldType.Integer, true), new("Größe in cm", FieldType.Decimal(9, 2)), new("it's \"quoted\"", FieldType.Text),
        new("a;b,c\td", FieldType.Text), new("group", FieldType.Date), new("日付", FieldType.Boolean)], ["select"], []);

    public static TheoryData<string> EachEngineButDbf => [.. Engines.Where(engine => engine != "dbf")];

    [Theory]
    [MemberData(nameof(EachEngineButDbf))]
    public void Names_of_any_kind_are_written_and_read(string engine)
    {
        // Firebird's names are of 31 bytes at most before version 4.
        TableShape table = engine == "firebird" ? Awkward with { Name = "Order by \"the\" `house`" } : Awkward;
        RecordBatch rows = Few(table);
        string expected = FingerprintOf(table, rows);
        for (int row = 0; row < rows.RowCount; row++) Assert.False(rows.Vectors[0].IsNull(row));
        Write(At(engine, "s"), (table with { Key = [] }, rows.Vectors, rows.RowCount));
        Assert.Equal([expected], FingerprintsOf(At(engine, "s"), table with { Key = [] }));
        using IStore store = _stores.Open(At(engine, "s"));
        Assert.Equal(table.Name, store.ReadShape().Single().Name);
        Assert.Equal(table.Columns.Select(column => column.Name), store.ReadShape().Single().Columns.Select(column => column.Name));
        Assert.Equal(50, store.Batches(table, ["it's \"quoted\"", "select"], CancellationToken.None).Sum(batch => batch.RowCount));
        Assert.Equal(5, store.Batches(table, [], CancellationToken.None, within: new KeyRange("select", "3", "4"))
            .Sum(batch => batch.RowCount));
    }

    [Theory]
    [MemberData(nameof(EachEngine))]
    public void A_range_of_records_is_read_by_numbers_texts_dates_and_amounts(string engine)
    {
        RecordBatch rows = Rows();
        Write(At(engine, "s"), (Values, rows.Vectors, rows.RowCount));
        using IStore store = _stores.Open(At(engine, "s"));
        Assert.Equal(Enumerable.Range(100, 50).Select(row => (long)row), Numbers(new KeyRange("NR", "100", "150"), "NR"));
        Assert.Equal(398, Numbers(new KeyRange("NR", "0", "1000")).Length);
        Assert.Equal([long.MaxValue], Numbers(new KeyRange("NR", "9000000000000000000", null)));
        Assert.Equal([long.MinValue], Numbers(new KeyRange("NR", null, "-1")));
        Assert.Empty(Numbers(new KeyRange("NR", "150", "150")));
        Assert.Equal(Expected(3, day => day >= new DateOnly(2000, 1, 1).DayNumber && day < new DateOnly(2040, 1, 1).DayNumber),
            Numbers(new KeyRange("DAY", "2000-01-01", "2040-01-01")).Order());
        Assert.Equal([.. Enumerable.Range(0, 400).Where(row => !rows.Vectors[1].IsNull(row)
            && ((WideVector)rows.Vectors[1]).Values[row] >= 0).Select(Number)
            .Order()], Numbers(new KeyRange("AMOUNT", "0", null)).Order());
        Assert.Equal([.. Enumerable.Range(0, 400).Where(row => !rows.Vectors[12].IsNull(row) && ((BytesVector)rows.Vectors[12])[row]
            .SequenceCompareTo("l"u8) >= 0).Select(Number).Order()], Numbers(new KeyRange("FOUR", "l", null)).Order());
        Assert.Contains("is not a limit for DAY",
            Assert.Throws<TransferraException>(() => Numbers(new KeyRange("DAY", "tomorrow", null))).Message, StringComparison.Ordinal);

        long Number(int row) => ((LongVector)rows.Vectors[0]).Values[row];

        long[] Expected(int column, Func<long, bool> holds) =>
            [.. Enumerable.Range(0, 400).Where(row => !rows.Vectors[column].IsNull(row)
                && holds(((LongVector)rows.Vectors[column]).Values[row])).Select(Number)
            .Order()];

        long[] Numbers(KeyRange within, params string[] orderBy) =>
            [.. store.Batches(Values, orderBy, CancellationToken.None, within: within)
                .SelectMany(batch => ((LongVector)batch.Vectors[0]).Values.ToArray())];
    }

    [Theory]
    [MemberData(nameof(EachEngine))]
    public void A_table_that_is_not_there_is_refused_in_words(string engine)
    {
        Write(At(engine, "s"), (Keyless, Few(Keyless).Vectors, 50));
        using IStore store = _stores.Open(At(engine, "s"));
        Assert.Throws<TransferraException>(() => store.Read(Values, []));
        Assert.Throws<TransferraException>(() => store.Read(Keyless with { Columns = [new("NONE", FieldType.Text)] }, []));
    }

    [Theory]
    [MemberData(nameof(EachEngine))]
    public void A_new_store_is_never_written_over_another(string engine)
    {
        Write(At(engine, "s"), (Keyless, Few(Keyless).Vectors, 50));
        string[] before = FingerprintsOf(At(engine, "s"), Keyless);
        Assert.Contains("there already", Assert.Throws<TransferraException>(() => _stores.Create(At(engine, "s"))).Message,
            StringComparison.Ordinal);
        Assert.Equal(before, FingerprintsOf(At(engine, "s"), Keyless));
    }
}
