// DamageTests.cs: real damage: pages overwritten, files cut off, memo pointers broken. What is lost is told with its place; all the rest
// is read.
using System.Globalization;
using Microsoft.Data.Sqlite;
using Transferra.Core.Checks;
using Transferra.Core.Records;
using Transferra.Tests;

namespace Transferra.Stores.Tests;

public sealed class DamageTests : IDisposable
{
    private const int Records = 6000;

    private readonly TempFolder _folder = new();
    private readonly TestServers _servers = new();
    private readonly StoreOpener _stores = new();

    public void Dispose()
    {
        _servers.Dispose();
        _folder.Dispose();
    }

    private string Sqlite(string more = "")
    {
        string path = _folder["t.db"];
        using (var connection = new SqliteConnection($"Data Source={path};Pooling=false"))
        {
            connection.Open();
            using SqliteCommand command = connection.CreateCommand();
            command.CommandText = "PRAGMA page_size = 4096; CREATE TABLE T (NR INTEGER PRIMARY KEY, V VARCHAR(200)); "
                + $"WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < {Records}) INSERT INTO T SELECT i * 3, "
                + $"printf('%.150c', 'x') || i FROM n; {more}";
            command.ExecuteNonQuery();
        }
        return path;
    }

    private (HashSet<long> Read, List<LostPart> Lost) ReadAll(StoreAddress address, string table = "T")
    {
        using IStore store = _stores.Open(address);
        return ReadAll(store, table);
    }

    private static (HashSet<long> Read, List<LostPart> Lost) ReadAll(IStore store, string table)
    {
        TableShape shape = store.ReadShape().Single(known => string.Equals(known.Name, table, StringComparison.OrdinalIgnoreCase));
        shape = shape with { Columns = [shape.Columns[0] with { Type = FieldType.Integer }, shape.Columns[1]] };
        var lost = new List<LostPart>();
        var numbers = new HashSet<long>();
        var batch = new RecordBatch(shape.Columns);
        using IRecordReader reader = store.ReadWhatCanBe(shape, lost);
        for (bool more = true; more;)
        {
            batch.Reset();
            more = reader.Fill(batch);
            for (int row = 0; row < batch.RowCount; row++) Assert.True(numbers.Add(((LongVector)batch.Vectors[0]).Values[row]),
                "a record was delivered twice");
        }
        return (numbers, lost);
    }

    private static void Overwrite(string path, long at, int bytes)
    {
        using FileStream file = new(path, FileMode.Open, FileAccess.Write, FileShare.ReadWrite);
        file.Seek(at, SeekOrigin.Begin);
        byte[] rubbish = new byte[bytes];
        new Random(3).NextBytes(rubbish);
        file.Write(rubbish);
    }

    // Whether the lost parts, as ranges of whole numbers, hold exactly what is missing.
    private static void AssertTold(HashSet<long> read, List<LostPart> lost, IEnumerable<long> all)
    {
        (long From, long To)[] ranges = [.. lost.Select(part =>
        {
            string[] ends = part.Where[(part.Where.IndexOf(' ', StringComparison.Ordinal) + 1)..].Split(" to ");
            return (long.Parse(ends[0], CultureInfo.InvariantCulture), long.Parse(ends[^1], CultureInfo.InvariantCulture));
        })];
        foreach (long number in all)
            Assert.True(read.Contains(number) != ranges.Any(range => range.From <= number && number <= range.To),
                $"record {number} is {(read.Contains(number) ? "read and told as lost" : "neither read nor told as lost")}");
    }

    [Theory]
    [InlineData(1, 1)]
    [InlineData(1, 40)] // forty pages one behind the other, about a thousand records
    [InlineData(3, 1)]
    public void Around_damaged_pages_of_SQLite_every_record_is_read(int places, int pages)
    {
        string path = Sqlite();
        for (int place = 1; place <= places; place++)
            for (int page = 0; page < pages; page++) Overwrite(path, 4096L * (20 * place + page), 4096);
        var address = new StoreAddress("sqlite", path);
        // Each damaged page is named, although the engine may give up behind the last of them.
        using (IStore store = _stores.Open(address)) Assert.Contains(store.CheckPhysically(), complaint => complaint.Contains("page 21",
            StringComparison.Ordinal));
        (HashSet<long> read, List<LostPart> lost) = ReadAll(address);
        Assert.InRange(Records - read.Count, places * pages * 20, places * pages * 30);
        Assert.InRange(lost.Count, 1, places * pages);
        AssertTold(read, lost, Enumerable.Range(1, Records).Select(number => number * 3L));
    }

    [Fact]
    public void Of_a_SQLite_file_that_is_cut_off_the_records_before_are_read_and_can_be_salvaged()
    {
        string path = Sqlite("PRAGMA user_version = 50;");
        long length = new FileInfo(path).Length;
        using (FileStream file = new(path, FileMode.Open, FileAccess.Write)) file.SetLength(length / 4096 / 2 * 4096);
        var address = new StoreAddress("sqlite", path);
        (HashSet<long> read, List<LostPart> lost) = ReadAll(address);
        Assert.InRange(read.Count, Records * 4 / 10, Records * 6 / 10);
        Assert.NotEmpty(lost);
        var made = new StoreAddress("sqlite", _folder["salvaged.db"]);
        SalvageResult salvaged;
        using (IStore store = _stores.Open(address))
        using (IStoreBuilder builder = _stores.Create(made))
            salvaged = Salvage.Run(store, builder, _ => { }, (_, _) => false, new ListObserver(), CancellationToken.None);
        Assert.Equal(read.Count, salvaged.Tables["T"]);
        Assert.NotEmpty(salvaged.Lost);
        using IStore again = _stores.Open(made);
        Assert.Empty(again.CheckPhysically());
        Assert.Equal(read.Count, again.CountRows("T"));
        Assert.Equal("50", again.Identity.HeaderFields["user_version"]);
    }

    [Theory] // pages above the leaves lie behind the cut, so that nothing points to many whole leaves any more
    [InlineData(30)]
    [InlineData(55)]
    [InlineData(90)]
    public void Of_a_SQLite_file_that_is_cut_off_every_whole_page_is_read_whatever_led_to_it(int percent)
    {
        string path = _folder["t.db"];
        using (var connection = new SqliteConnection($"Data Source={path};Pooling=false"))
        {
            connection.Open();
            using SqliteCommand command = connection.CreateCommand();
            command.CommandText = "PRAGMA page_size = 512; CREATE TABLE T (NR INTEGER PRIMARY KEY, V VARCHAR(60)); CREATE TABLE U (NR "
                + "INTEGER PRIMARY KEY, V VARCHAR(60), W INT); "
                + "CREATE TABLE GONE (NR INTEGER PRIMARY KEY, V VARCHAR(60));"
                + "WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 2000) INSERT INTO GONE SELECT i + 100000, "
                + "'gone ' || i FROM n; DROP TABLE GONE;";
            command.ExecuteNonQuery();
            for (int part = 0; part < 20; part++)
            {
                command.CommandText = "WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 200) INSERT INTO T "
                    + $"SELECT i + {part * 200}, printf('%.40c', 't') || i FROM n; "
                    + "WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 200) INSERT INTO U SELECT i + "
                    + $"{part * 200}, printf('%.40c', 'u') || i, i FROM n;";
                command.ExecuteNonQuery();
            }
        }
        long kept = new FileInfo(path).Length / 512 * percent / 100;
        using (FileStream file = new(path, FileMode.Open, FileAccess.Write)) file.SetLength(kept * 512);
        // What is there, counted apart from the program: leaves of tables, told apart by a text that each of their records has.
        byte[] bytes = File.ReadAllBytes(path);
        var there = new Dictionary<char, int> { ['t'] = 0, ['u'] = 0 };
        for (int page = 1; page < kept; page++)
        {
            ReadOnlySpan<byte> content = bytes.AsSpan(page * 512, 512);
            if (content[0] != 13) continue;
            int cells = content[3] << 8 | content[4], at = content[8] << 8 | content[9];
            ReadOnlySpan<byte> first = content[at..];
            if (first.IndexOf("tttt"u8) is >= 0 and < 20) there['t'] += cells;
            else if (first.IndexOf("uuuu"u8) is >= 0 and < 20) there['u'] += cells;
        }
        var address = new StoreAddress("sqlite", path);
        foreach ((string table, char mark) in ((string, char)[])[("T", 't'), ("U", 'u')])
        {
            (HashSet<long> read, List<LostPart> lost) = ReadAll(address, table);
            Assert.Equal(there[mark], read.Count);
            Assert.InRange(read.Count, 1, 3999);
            Assert.NotEmpty(lost);
            Assert.DoesNotContain(read, number => number > 4000); // what was deleted does not come back
        }
    }

    [Fact]
    public void A_broken_index_of_SQLite_is_a_complaint_and_no_record_is_lost()
    {
        string path = Sqlite("CREATE INDEX I ON T (V); CREATE TABLE LAST_ONE (A INTEGER); INSERT INTO LAST_ONE VALUES (1);");
        long root;
        using (IStore store = _stores.Open(new StoreAddress("sqlite", path)))
            root = long.Parse(store.Ask("SELECT rootpage FROM sqlite_schema WHERE name = 'I'").Rows[0][0]!, CultureInfo.InvariantCulture);
        Overwrite(path, 4096 * (root - 1), 200);
        using (IStore store = _stores.Open(new StoreAddress("sqlite", path))) Assert.NotEmpty(store.CheckPhysically());
        (HashSet<long> read, List<LostPart> lost) = ReadAll(new StoreAddress("sqlite", path));
        Assert.Equal(Records, read.Count);
        Assert.Empty(lost);
    }

    private string Dbf(params string[] memos)
    {
        var table = new TableShape("T", [new("NR", FieldType.Integer), new("V", FieldType.Text)], [], []);
        using (IStoreBuilder builder = _stores.Create(new StoreAddress("dbf", _folder["dbf"]), "ibm850"))
        {
            builder.CreateTable(table);
            var batch = new RecordBatch(table.Columns);
            for (int row = 0; row < memos.Length; row++)
            {
                ((LongVector)batch.Vectors[0]).Append(row + 1);
                ((BytesVector)batch.Vectors[1]).Append(System.Text.Encoding.UTF8.GetBytes(memos[row]));
            }
            builder.Write([new TableOutput(table, batch.Vectors)], [.. Enumerable.Range(0, memos.Length)], []);
            builder.Complete(new Dictionary<string, string>());
        }
        return _folder["dbf"];
    }

    private (string Path, int HeaderBytes, int RecordBytes) DbfFile(string folder)
    {
        string path = Directory.EnumerateFiles(folder).Single(file => file.EndsWith(".dbf", StringComparison.OrdinalIgnoreCase));
        byte[] bytes = File.ReadAllBytes(path);
        return (path, BitConverter.ToUInt16(bytes, 8), BitConverter.ToUInt16(bytes, 10));
    }

    private IReadOnlyList<string> DbfComplaints(string folder)
    {
        using IStore store = _stores.Open(new StoreAddress("dbf", folder), "ibm850");
        return store.CheckPhysically();
    }

    [Fact]
    public void Of_a_dbf_table_that_is_cut_off_the_lost_records_are_told_by_number_and_offset()
    {
        string folder = Dbf([.. Enumerable.Repeat("memo", 100)]);
        Assert.Empty(DbfComplaints(folder));
        (string path, int header, int record) = DbfFile(folder);
        using (FileStream file = new(path, FileMode.Open, FileAccess.Write)) file.SetLength(header + 60 * record + 3);
        Assert.NotEmpty(DbfComplaints(folder));
        (HashSet<long> read, List<LostPart> lost) = ReadAll(new StoreAddress("dbf", folder));
        Assert.Equal(Enumerable.Range(1, 60).Select(number => (long)number), read.Order());
        Assert.Equal(FormattableString.Invariant($"record 61 to 100, from offset {header + 60 * record}"), Assert.Single(lost).Where);
    }

    [Theory]
    [InlineData("pointer beyond the file", "points to block 9999")]
    [InlineData("pointers overlap", "overlap")]
    [InlineData("mark", "begins with 7F")]
    public void Broken_memo_pointers_and_marks_of_a_dbf_table_are_complaints(string what, string says)
    {
        string folder = Dbf(new string('a', 2000), new string('b', 2000), "c");
        (string path, int header, int record) = DbfFile(folder);
        byte[] bytes = File.ReadAllBytes(path);
        // Each field's entry of 32 bytes tells at its offset 12 where in the record it stands; the pointer is a whole number of four bytes.
        int second = header + record + BitConverter.ToInt32(bytes, 32 + 32 + 12), first = second - record;
        switch (what)
        {
            case "mark": bytes[header + record] = 0x7F; break;
            case "pointers overlap":
                // The second pointer leads into the middle of the first text, where it finds what looks like a beginning: kind 1, a
                // hundred bytes.
                string memo = Directory.EnumerateFiles(folder).Single(file => file.EndsWith(".fpt", StringComparison.OrdinalIgnoreCase));
                byte[] texts = File.ReadAllBytes(memo);
                int blockBytes = texts[6] << 8 | texts[7], block = BitConverter.ToInt32(bytes, first) + 1;
                byte[] head = [0, 0, 0, 1, 0, 0, 0, 100];
                head.CopyTo(texts, block * blockBytes);
                File.WriteAllBytes(memo, texts);
                BitConverter.GetBytes(block).CopyTo(bytes, second);
                break;
            default: BitConverter.GetBytes(9999).CopyTo(bytes, second); break;
        }
        File.WriteAllBytes(path, bytes);
        Assert.Contains(says, Assert.Single(DbfComplaints(folder)), StringComparison.Ordinal);
    }

    [Fact]
    public void Records_that_are_only_marked_as_deleted_are_remarked_upon_when_they_are_many()
    {
        string folder = Dbf([.. Enumerable.Repeat("memo", 10)]);
        (string path, int header, int record) = DbfFile(folder);
        byte[] bytes = File.ReadAllBytes(path);
        foreach (int deleted in (int[])[1, 4, 7]) bytes[header + deleted * record] = (byte)'*';
        File.WriteAllBytes(path, bytes);
        using IStore store = _stores.Open(new StoreAddress("dbf", folder), "ibm850");
        Assert.Equal("3 of 10 records are only marked as deleted", Assert.Single(store.Remarks).What[3..]);
        Assert.Empty(store.CheckPhysically());
    }

    [Fact]
    public void Around_damaged_pages_of_PostgreSQL_every_record_is_read()
    {
        StoreAddress made = _servers.Made("postgresql", "torn", "CREATE TABLE t (nr int, v varchar(200))",
            $"INSERT INTO t SELECT g * 3, repeat('x', 150) || g FROM generate_series(1, {Records}) g", "CHECKPOINT"),
            elsewhere = made with { Path = "postgres" };
        // A copy that the server has not read yet, so that it must come to its pages on the disk.
        StoreAddress copy = _servers.Database("postgresql", "torn_copy");
        TestServers.Execute(elsewhere, $"CREATE DATABASE \"{copy.Path}\" TEMPLATE \"{made.Path}\" STRATEGY file_copy");
        string file = Path.Combine(TestServers.Ask(elsewhere,
            $"SELECT current_setting('data_directory') || '/base/' || oid FROM pg_database WHERE datname = '{copy.Path}'")!,
            TestServers.Ask(made, "SELECT pg_relation_filenode('t')")!);
        foreach (int page in (int[])[7, 60, 61]) Overwrite(file, 8192L * page + 4000, 20);
        HashSet<long> onThem = [.. Enumerable.Range(1, Records).Select(number => number * 3L)];
        foreach (string number in TestServers.Ask(made,
            "SELECT string_agg(nr::text, ',') FROM t WHERE (ctid::text::point)[0]::int NOT IN (7, 60, 61)")!.Split(','))
            onThem.Remove(long.Parse(number, CultureInfo.InvariantCulture));
        (HashSet<long> read, List<LostPart> lost) = ReadAll(copy);
        Assert.Equal(["page 7", "page 60 to 61"], lost.Select(part => part.Where));
        Assert.All(lost, part => Assert.Contains("invalid page", part.Why, StringComparison.Ordinal));
        Assert.Equal(Enumerable.Range(1, Records).Select(number => number * 3L).Except(onThem).Order(), read.Order());
        Assert.NotEmpty(onThem);
    }

    [Fact]
    public void Where_PostgreSQL_can_look_into_its_indexes_it_does()
    {
        StoreAddress address = _servers.Made("postgresql", "amcheck", "CREATE TABLE t (nr int PRIMARY KEY)",
            "INSERT INTO t SELECT generate_series(1, 1000)",
            "CREATE EXTENSION amcheck");
        using (IStore store = _stores.Open(address)) Assert.Empty(store.CheckPhysically());
        // Records that the index does not know, as when a file of it was put back from an older day: the table is filled behind its back.
        TestServers.Execute(address, "UPDATE pg_index SET indisready = false, indislive = true WHERE indexrelid = 't_pkey'::regclass");
        TestServers.Execute(address, "INSERT INTO t SELECT generate_series(2001, 2010)");
        TestServers.Execute(address, "UPDATE pg_index SET indisready = true WHERE indexrelid = 't_pkey'::regclass");
        using IStore broken = _stores.Open(address);
        Assert.Contains("t_pkey", Assert.Single(broken.CheckPhysically()), StringComparison.Ordinal);
    }

    [Theory]
    [InlineData("MYD", "MyISAM", "ROW_FORMAT=DYNAMIC")]
    [InlineData("MAD", "Aria", "TRANSACTIONAL=1")]
    public void Damaged_tables_of_MariaDB_are_complaints(string ending, string engine, string form)
    {
        StoreAddress address = _servers.Made("mariadb", "torn",
            $"CREATE TABLE t (nr int PRIMARY KEY, v varchar(200)) ENGINE={engine} {form}",
            $"INSERT INTO t SELECT seq * 3, concat(repeat('x', 150), seq) FROM seq_1_to_{Records}", "FLUSH TABLES t");
        using (IStore store = _stores.Open(address)) Assert.Empty(store.CheckPhysically());
        string file = Path.Combine(TestServers.Ask(address, "SELECT @@datadir")!, address.Path, "t." + ending);
        TestServers.Execute(address, "FLUSH TABLES t");
        Overwrite(file, 8192 * 20 + 100, 3000);
        using IStore damaged = _stores.Open(address);
        Assert.Contains(damaged.CheckPhysically(), complaint => complaint.StartsWith("t: ", StringComparison.Ordinal));
        // The server marks the table as crashed when it has checked it, and then gives out nothing more of it before it is repaired.
        (_, List<LostPart> lost) = ReadAll(damaged, "t");
        Assert.Contains("t", Assert.Single(lost).Table, StringComparison.Ordinal);
    }

    [Fact]
    public void Around_damaged_pages_of_Firebird_every_record_is_read()
    {
        StoreAddress address = _servers.Made("firebird", "torn", "CREATE TABLE T (NR INTEGER NOT NULL PRIMARY KEY, V VARCHAR(200))",
            $"EXECUTE BLOCK AS DECLARE I INTEGER = 1; BEGIN WHILE (I <= {Records}) DO BEGIN INSERT INTO T VALUES (:I * 3, LPAD('', 150, "
                + "'x' || :I)); I = I + 1; END END");
        const int pageBytes = 8192, recordPage = 5;
        _stores.LetGo();
        WaitUntilLetGo(address.Path);
        byte[] file = File.ReadAllBytes(address.Path);
        int page = Enumerable.Range(0, file.Length / pageBytes).Where(number => file[number * pageBytes] == recordPage).Reverse().Skip(10)
            .First();
        Overwrite(address.Path, page * (long)pageBytes, 200);
        using (IStore store = _stores.Open(address)) Assert.NotEmpty(store.CheckPhysically());
        (HashSet<long> read, List<LostPart> lost) = ReadAll(address);
        Assert.InRange(Records - read.Count, 5, 2000);
        AssertTold(read, lost, Enumerable.Range(1, Records).Select(number => number * 3L));
    }

    // A server closes a database a moment after its last session ended.
    private static void WaitUntilLetGo(string path)
    {
        for (int tries = 1; ; tries++)
        {
            try
            {
                using FileStream alone = new(path, FileMode.Open, FileAccess.ReadWrite, FileShare.None);
                return;
            }
            catch (IOException) when (tries < 100) { Thread.Sleep(100); }
        }
    }
}
