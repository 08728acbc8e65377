using System.Data.Common;
using System.Text;
using Transferra.Core.Machine;
using Transferra.Core.Office;
using Transferra.Core.Records;
using Transferra.Tests;

namespace Transferra.Stores.Tests;

/// <summary>What the three servers have in common, on real ones.</summary>
public sealed class ServerTests : IDisposable
{
    private readonly TestServers _servers = new();
    private readonly TempFolder _folder = new();
    private readonly StoreOpener _stores = new();

    public void Dispose()
    {
        _servers.Dispose();
        _folder.Dispose();
    }

    public static TheoryData<string> Engines => [.. StoreAddress.ServerEngines];

    private static readonly TableShape Account = new("account",
        [new("id", FieldType.Integer, true), new("code", new(FieldKind.Text, Length: 8), true),
        new("name", new(FieldKind.Text, Length: 40), Default: "'none'")], ["id"], [])
    {
        Indexes = [new IndexShape("account_code", ["code"], true)],
        NumberedColumn = "id",
    };

    private static readonly TableShape Entry = new("entry",
        [new("no", FieldType.Integer, true), new("account", FieldType.Integer), new("amount", FieldType.Decimal(14, 2))], ["no"],
        [new(["account"], "account", ["id"])])
    {
        Indexes = [new IndexShape("entry_amount", ["amount"], false)],
    };

    private static RecordBatch Batch(TableShape table, params object?[][] rows)
    {
        var batch = new RecordBatch(table.Columns);
        foreach (object?[] row in rows)
        {
            for (int i = 0; i < row.Length; i++)
            {
                switch (row[i])
                {
                    case null: batch.Vectors[i].AppendNull(); break;
                    case int number when batch.Vectors[i] is LongVector longs: longs.Append(number); break;
                    case int units: ((WideVector)batch.Vectors[i]).Append(units); break;
                    case string text: ((BytesVector)batch.Vectors[i]).Append(Encoding.UTF8.GetBytes(text)); break;
                    default: throw new InvalidOperationException();
                }
            }
        }
        return batch;
    }

    private static List<RowReject> Write(IStoreBuilder builder, TableShape table, RecordBatch batch)
    {
        var rejects = new List<RowReject>();
        builder.Write([new TableOutput(table, batch.Vectors)], [.. Enumerable.Range(0, batch.RowCount)], rejects);
        return rejects;
    }

    private StoreAddress Books(string engine, string name = "books")
    {
        StoreAddress address = _servers.Database(engine, name);
        using IStoreBuilder builder = _stores.Create(address);
        // The entries first: relations are made when both tables are there.
        builder.CreateTable(Entry);
        builder.CreateTable(Account);
        Assert.Empty(Write(builder, Entry, Batch(Entry, [1, 7, 100], [2, 7, -100], [3, null, 5])));
        Assert.Empty(Write(builder, Account, Batch(Account, [7, "A7", "Bank"], [9, "A9", "Cash"])));
        builder.Complete(new Dictionary<string, string> { ["user_version"] = "6" }); // of no meaning here, and no hindrance
        return address;
    }

    [Theory]
    [MemberData(nameof(Engines))]
    public void Keys_relations_indexes_defaults_and_numbering_are_built_and_told(string engine)
    {
        StoreAddress address = Books(engine);
        using (IStore store = _stores.Open(address))
        {
            TableShape account = store.ReadShape().Single(table => table.Name == "account"), entry = store.ReadShape()
                .Single(table => table.Name == "entry");
            Assert.Equal(["id"], account.Key);
            Assert.Equal("id", account.NumberedColumn);
            Assert.Contains(account.Indexes, index => index is { Name: "account_code", IsUnique: true, Columns: ["code"] });
            Assert.Contains("none", account.Columns[2].Default, StringComparison.Ordinal);
            Assert.True(account.Columns[1].Required);
            Assert.False(account.Columns[2].Required);
            Assert.Equal(new FieldType(FieldKind.Text, Length: 40), account.Columns[2].Type);
            Assert.Equal(["no"], entry.Key);
            Assert.True(store.KeepsKey("ENTRY", ["amount", "NO"]));
            Assert.False(store.KeepsKey("entry", ["amount"]));
            RelationShape relation = Assert.Single(entry.Relations);
            Assert.Equal(("account", "account", "id"), (relation.Columns.Single(), relation.To, relation.On.Single()));
            Assert.Contains(entry.Indexes, index => index is { Name: "entry_amount", IsUnique: false });
            Assert.Empty(store.CheckPhysically());
        }
        // The program goes on where the old one stopped counting, and its relations hold.
        string quote = engine == "mariadb" ? "`" : "\"";
        TestServers.Execute(address, $"INSERT INTO {quote}account{quote} ({quote}code{quote}) VALUES ('A10')");
        Assert.Equal("10", TestServers.Ask(address,
            $"SELECT {quote}id{quote} FROM {quote}account{quote} WHERE {quote}code{quote} = 'A10'"));
        Assert.Equal("none", TestServers.Ask(address,
            $"SELECT {quote}name{quote} FROM {quote}account{quote} WHERE {quote}code{quote} = 'A10'"));
        Assert.ThrowsAny<DbException>(() => TestServers.Execute(address,
            $"INSERT INTO {quote}entry{quote} ({quote}no{quote}, {quote}account{quote}) VALUES (9, 4711)"));
    }

    [Theory]
    [MemberData(nameof(Engines))]
    public void A_number_of_zero_in_a_column_that_counts_itself_stays_zero(string engine)
    {
        StoreAddress address = _servers.Database(engine, "zero");
        var table = new TableShape("t", [new("code", new(FieldKind.Text, Length: 4), true), new("nr", FieldType.Integer, true)], ["code"],
            [])
        { NumberedColumn = "nr" };
        using (IStoreBuilder builder = _stores.Create(address))
        {
            builder.CreateTable(table);
            Assert.Empty(Write(builder, table, Batch(table, ["a", 0], ["b", 5])));
            builder.Complete(new Dictionary<string, string>());
        }
        using IStore store = _stores.Open(address);
        Assert.Equal(["0", "5"], Cells.Of(store, "t", "nr", FieldType.Integer, out _, "nr"));
        string quote = engine == "mariadb" ? "`" : "\"";
        TestServers.Execute(address, $"INSERT INTO {quote}t{quote} ({quote}code{quote}) VALUES ('c')");
        Assert.Equal("6", TestServers.Ask(address, $"SELECT {quote}nr{quote} FROM {quote}t{quote} WHERE {quote}code{quote} = 'c'"));
    }

    [Theory]
    [MemberData(nameof(Engines))]
    public void Identity_tells_engine_version_size_and_facts(string engine)
    {
        using IStore store = _stores.Open(Books(engine));
        Assert.Equal(engine, store.Identity.Engine.ToLowerInvariant());
        Assert.Matches(@"^\d+\.\d+", store.Identity.EngineVersion);
        Assert.True(store.Identity.Bytes > 0);
        Assert.Contains("UTF", store.Identity.HeaderFields["character_set"], StringComparison.OrdinalIgnoreCase);
        if (engine != "firebird") return;
        Assert.Equal("12.0", store.Identity.HeaderFields["on_disk_structure"][..4]);
        Assert.Equal(("3", "on"), (store.Identity.HeaderFields["dialect"], store.Identity.HeaderFields["forced_writes"]));
    }

    [Theory]
    [MemberData(nameof(Engines))]
    public void One_snapshot_is_seen_while_others_write(string engine)
    {
        StoreAddress address = Books(engine);
        string quote = engine == "mariadb" ? "`" : "\"";
        using IStore store = _stores.Open(address);
        Assert.Equal(3, store.CountRows("entry"));
        TestServers.Execute(address, $"INSERT INTO {quote}entry{quote} VALUES (4, 7, 1)");
        TestServers.Execute(address, $"UPDATE {quote}entry{quote} SET {quote}amount{quote} = 0 WHERE {quote}no{quote} = 1");
        Assert.Equal(3, store.CountRows("entry"));
        RecordBatch batch = store.Batches(Entry, ["no"], CancellationToken.None).Single();
        Assert.Equal((3, (Int128)100), (batch.RowCount, ((WideVector)batch.Vectors[2]).Values[0]));
        using IStore later = _stores.Open(address);
        Assert.Equal(4, later.CountRows("entry"));
    }

    [Theory]
    [MemberData(nameof(Engines))]
    public void A_reader_given_up_early_leaves_the_store_usable(string engine)
    {
        using IStore store = _stores.Open(Books(engine));
        using (IRecordReader reader = store.Read(Entry, ["no"])) Assert.False(reader.Fill(new RecordBatch(Entry.Columns,
            new BatchLimits(10, 1 << 20))));
        using (IRecordReader reader = store.Read(Entry, ["no"])) reader.Fill(new RecordBatch(Entry.Columns, new BatchLimits(1, 1 << 20)));
        Assert.Equal(3, store.CountRows("entry"));
        Assert.Equal(2, store.Batches(Account, [], CancellationToken.None).Single().RowCount);
        Assert.Throws<TransferraException>(() => store.Ask("SELECT nonsense FROM nowhere"));
        Assert.Equal(3, store.CountRows("entry"));
    }

    [Theory]
    [InlineData("postgresql", false)]
    [InlineData("postgresql", true)]
    [InlineData("mariadb", false)]
    [InlineData("firebird", false)]
    [InlineData("firebird", true)]
    public void A_second_record_with_a_key_is_refused_alone_or_the_keys_say_that_there_is_one(string engine, bool keysFirst)
    {
        StoreAddress address = _servers.Database(engine, "twice");
        using IStoreBuilder builder = _stores.Create(address, keysFirst: keysFirst);
        builder.CreateTable(Account);
        RecordBatch batch = Batch(Account, [.. Enumerable.Range(1, 500).Select(i => (object?[])[i == 250 ? 17 : i, "A" + i, "n"])]);
        List<RowReject> rejects = Write(builder, Account, batch);
        if (engine != "mariadb" && !keysFirst)
        {
            Assert.Empty(rejects);
            KeyConflictException error = Assert.Throws<KeyConflictException>(() => builder.Complete(new Dictionary<string, string>()));
            Assert.Contains("account", error.Message, StringComparison.Ordinal);
            builder.Dispose();
            Assert.False(_stores.ServerOf(address).Exists(address.Path));
            return;
        }
        RowReject reject = Assert.Single(rejects);
        Assert.Equal((249, FaultCode.DuplicateKey), (reject.Row, reject.Code));
        Assert.DoesNotContain("17", reject.Reason, StringComparison.Ordinal); // a key may be somebody's own affair
        builder.Complete(new Dictionary<string, string>());
        using IStore store = _stores.Open(address);
        Assert.Equal(499, store.CountRows("account"));
    }

    [Theory]
    [MemberData(nameof(Engines))]
    public void A_record_for_two_tables_goes_to_both_or_to_none(string engine)
    {
        StoreAddress address = _servers.Database(engine, "both");
        TableShape left = new("left_part", [new("id", FieldType.Integer, true)], ["id"], []), right =
            new("right_part", [new("id", FieldType.Integer, true), new("t", FieldType.Text)], ["id"], []);
        using IStoreBuilder builder = _stores.Create(address, keysFirst: true);
        builder.CreateTable(left);
        builder.CreateTable(right);
        RecordBatch a = Batch(left, [.. Enumerable.Range(1, 400).Select(i => (object?[])[i])]), b =
            Batch(right, [.. Enumerable.Range(1, 400).Select(i => (object?[])[i == 300 ? 7 : i, "x"])]);
        var rejects = new List<RowReject>();
        builder.Write([new TableOutput(left, a.Vectors), new TableOutput(right, b.Vectors)], [.. Enumerable.Range(0, 400)], rejects);
        Assert.Equal(299, Assert.Single(rejects).Row);
        builder.Complete(new Dictionary<string, string>());
        using IStore store = _stores.Open(address);
        Assert.Equal((399, 399), (store.CountRows("left_part"), store.CountRows("right_part")));
        Assert.DoesNotContain(store.Batches(left, [], CancellationToken.None)
            .SelectMany(batch => ((LongVector)batch.Vectors[0]).Values.ToArray()), id => id == 300);
    }

    [Theory]
    [MemberData(nameof(Engines))]
    public void A_relation_that_does_not_hold_stops_the_new_store_and_nothing_is_left(string engine)
    {
        StoreAddress address = _servers.Database(engine, "orphan");
        using (IStoreBuilder builder = _stores.Create(address))
        {
            builder.CreateTable(Account);
            builder.CreateTable(Entry);
            Write(builder, Entry, Batch(Entry, [1, 4711, 5]));
            TransferraException error = Assert.Throws<TransferraException>(() => builder.Complete(new Dictionary<string, string>()));
            Assert.Contains("relation from entry (account) to account", error.Message, StringComparison.Ordinal);
        }
        Assert.False(_stores.ServerOf(address).Exists(address.Path));
    }

    [Theory]
    [MemberData(nameof(Engines))]
    public void Databases_are_found_renamed_and_removed_and_who_is_connected_is_told(string engine)
    {
        StoreAddress address = Books(engine), other = _servers.Database(engine, "renamed");
        IStoreServer server = _stores.ServerOf(address);
        Assert.True(server.Exists(address.Path));
        Assert.False(server.Exists(other.Path));
        Assert.Empty(server.ConnectedTo(address.Path));
        Assert.Empty(server.Hindrances(address.Path));
        using (TestServers.Connect(address))
        {
            Assert.Contains(address.Server!.User, Assert.Single(server.ConnectedTo(address.Path)), StringComparison.OrdinalIgnoreCase);
            if (engine != "mariadb")
                Assert.Contains("connected", Assert.Throws<TransferraException>(() => server.Rename(address.Path, other.Path)).Message,
                    StringComparison.Ordinal);
        }
        // the server takes a moment to let go
        for (int tries = 0; server.ConnectedTo(address.Path).Count > 0 && tries < 50; tries++) Thread.Sleep(100);
        server.Rename(address.Path, other.Path);
        Assert.False(server.Exists(address.Path));
        Assert.True(server.Exists(other.Path));
        using (IStore store = _stores.Open(other)) Assert.Equal(3, store.CountRows("entry"));
        Books(engine); // the name is free again
        Assert.ThrowsAny<Exception>(() => server.Rename(other.Path, address.Path)); // and is not taken twice
        server.Remove(other.Path);
        server.Remove(other.Path); // there is none any more
        Assert.False(server.Exists(other.Path));
    }

    [Theory]
    [MemberData(nameof(Engines))]
    public void Whoever_is_just_leaving_a_database_is_not_in_it_and_whoever_stays_is(string engine)
    {
        StoreAddress address = Books(engine);
        var places = new StorePlaces(_stores, new DiskVolume());
        IDisposable stays = TestServers.Connect(address);
        Assert.Single(places.OpenedBy(address));
        using var leaving = new Timer(_ => stays.Dispose(), null, TimeSpan.FromMilliseconds(200), Timeout.InfiniteTimeSpan);
        Assert.Empty(places.OpenedBy(address));
    }

    [Theory]
    [MemberData(nameof(Engines))]
    public void What_does_not_let_us_in_says_what_to_do_and_no_password(string engine)
    {
        StoreAddress address = _servers.Database(engine, "none");
        Assert.Contains("there is no database", Refused(address).Message, StringComparison.Ordinal);
        string secret = _folder.Write("wrong", "not-the-password\n");
        if (!OperatingSystem.IsWindows()) File.SetUnixFileMode(secret, UnixFileMode.UserRead);
        TransferraException refused = Refused(address with { Server = address.Server! with { PasswordFile = secret } });
        Assert.Contains("does not let", refused.Message, StringComparison.Ordinal);
        Assert.Contains("password-file", refused.Next, StringComparison.Ordinal);
        Assert.DoesNotContain("not-the-password", refused.ToString(), StringComparison.Ordinal);
        Assert.Contains("answers at 127.0.0.1:1", Refused(address with { Server = address.Server! with { Port = 1 } }).Message,
            StringComparison.Ordinal);
        if (!OperatingSystem.IsWindows()) File.SetUnixFileMode(secret, UnixFileMode.UserRead | UnixFileMode.OtherRead);
        Assert.Contains("chmod 600", Refused(address with { Server = address.Server! with { PasswordFile = secret } }).Next,
            StringComparison.Ordinal);
        Assert.Contains("holds no password",
            Refused(address with
            {
                Server = address.Server! with
                {
                    PasswordFile = null,
                    PasswordVariable = "TRANSFERRA_NO_SUCH"
                }
            }).Message,
            StringComparison.Ordinal);
        Environment.SetEnvironmentVariable("TRANSFERRA_TEST_SECRET", File.ReadLines(address.Server!.PasswordFile!).First());
        Assert.Contains("there is no database",
            Refused(address with
            {
                Server = address.Server! with
                {
                    PasswordFile = null,
                    PasswordVariable = "TRANSFERRA_TEST_SECRET"
                }
            }).Message,
            StringComparison.Ordinal);
    }

    private TransferraException Refused(StoreAddress address) => Assert.Throws<TransferraException>(() => _stores.Open(address).Dispose());

    [Theory]
    [InlineData("postgresql", "postgresql")]
    [InlineData("mariadb", "mariadb/socket")]
    public void A_local_socket_is_reached_by_its_path(string engine, string socket)
    {
        StoreAddress address = Books(engine);
        StoreAddress local = address with
        {
            Server = address.Server! with
            {
                Host =
            Path.Combine(Path.GetDirectoryName(address.Server!.PasswordFile)!, socket)
            }
        };
        using IStore store = _stores.Open(local);
        Assert.Equal(3, store.CountRows("entry"));
        Assert.Empty(_stores.ServerOf(local).ConnectedTo(address.Path)); // our own connections are none of others'
    }

    [Theory]
    [InlineData("postgresql")]
    [InlineData("firebird")]
    public void Without_a_place_for_the_password_the_engines_own_habit_decides(string engine)
    {
        StoreAddress address = Books(engine);
        string password = File.ReadLines(address.Server!.PasswordFile!).First(), file =
            _folder.Write("pgpass", $"{address.Server.Host}:{address.Server.Port}:*:{address.Server.User}:{password}\n");
        if (!OperatingSystem.IsWindows()) File.SetUnixFileMode(file, UnixFileMode.UserRead | UnixFileMode.UserWrite);
        Environment.SetEnvironmentVariable("PGPASSFILE", file);
        Environment.SetEnvironmentVariable("ISC_PASSWORD", password);
        Environment.SetEnvironmentVariable("ISC_USER", "SYSDBA");
        StoreAddress unsaid = address with
        {
            Server = address.Server with
            {
                PasswordFile = null,
                User = engine == "firebird" ? ""
            : address.Server.User
            }
        };
        using IStore store = _stores.Open(unsaid);
        Assert.Equal(3, store.CountRows("entry"));
    }

    [Theory]
    [MemberData(nameof(Engines))]
    public void Where_counting_has_come_to_is_told(string engine)
    {
        using IStore store = _stores.Open(Books(engine));
        StoreObject counter = Assert.Single(store.ListObjects());
        Assert.Contains(counter.Kind, (string[])["sequence", "numbering"]);
        Assert.Contains(counter.Of, (string[])["9", "10", ""]);
    }

    [Theory]
    [MemberData(nameof(Engines))]
    public void Views_and_the_like_are_listed(string engine)
    {
        StoreAddress address = Books(engine);
        string quote = engine == "mariadb" ? "`" : "\"";
        TestServers.Execute(address, $"CREATE VIEW {quote}open_entries{quote} AS SELECT {quote}no{quote} FROM {quote}entry{quote}");
        switch (engine)
        {
            case "postgresql":
                TestServers.Execute(address, "CREATE FUNCTION stamp() RETURNS trigger LANGUAGE plpgsql AS 'BEGIN RETURN NEW; END'; "
                    + "CREATE TRIGGER stamped BEFORE INSERT ON entry FOR EACH ROW EXECUTE FUNCTION stamp()");
                break;
            case "mariadb":
                TestServers.Execute(address, "CREATE PROCEDURE stamp() SELECT 1");
                TestServers.Execute(address, "CREATE TRIGGER stamped BEFORE INSERT ON entry FOR EACH ROW SET NEW.amount = NEW.amount");
                break;
            default:
                TestServers.Execute(address, "CREATE PROCEDURE \"stamp\" AS BEGIN END");
                TestServers.Execute(address, "CREATE TRIGGER \"stamped\" FOR \"entry\" BEFORE INSERT AS BEGIN END");
                break;
        }
        using IStore store = _stores.Open(address);
        IReadOnlyList<StoreObject> objects = store.ListObjects();
        Assert.Contains(new StoreObject("view", "open_entries"), objects);
        Assert.Contains(new StoreObject("routine", "stamp"), objects);
        Assert.Contains(new StoreObject("trigger", "stamped", "entry"), objects);
        Assert.Equal(2, store.ReadShape().Count); // a view is not a table
        Assert.Empty(_stores.ServerOf(address).Hindrances(address.Path));
    }

    [Theory]
    [MemberData(nameof(Engines))]
    public void A_user_who_may_not_make_databases_learns_it_beforehand(string engine)
    {
        StoreAddress address = Books(engine);
        string user = "clerk" + Environment.ProcessId + "_" + engine, secret = _folder.Write("clerk", "clerk-secret\n");
        if (!OperatingSystem.IsWindows()) File.SetUnixFileMode(secret, UnixFileMode.UserRead);
        StoreAddress asClerk = address with { Server = address.Server! with { User = user, PasswordFile = secret } };
        switch (engine)
        {
            case "postgresql":
                TestServers.Execute(address, $"CREATE ROLE {user} LOGIN PASSWORD 'clerk-secret'; GRANT SELECT ON ALL TABLES IN SCHEMA "
                    + $"public TO {user}");
                Assert.Equal(2, _stores.ServerOf(asClerk).Hindrances(address.Path).Count);
                using (IStore store = _stores.Open(asClerk)) Assert.Equal(3, store.CountRows("entry"));
                Assert.Contains("cannot be made",
                    Assert.Throws<TransferraException>(() => _stores.Create(asClerk with { Path = address.Path + "x" })).Message,
                    StringComparison.Ordinal);
                // One who owns nothing but may make databases would leave the program before a closed door.
                TestServers.Execute(address, $"ALTER ROLE {user} SUPERUSER");
                Assert.Contains("owner: postgres", Assert.Single(_stores.ServerOf(asClerk).Hindrances(address.Path)),
                    StringComparison.Ordinal);
                TestServers.Execute(address, $"DROP OWNED BY {user}; DROP ROLE {user}");
                break;
            case "mariadb":
                TestServers.Execute(address, $"CREATE USER '{user}'@'127.0.0.1' IDENTIFIED BY 'clerk-secret'; GRANT SELECT ON "
                    + $"`{address.Path}`.* TO '{user}'@'127.0.0.1'");
                Assert.Contains("may not make databases", Assert.Single(_stores.ServerOf(asClerk).Hindrances(address.Path)),
                    StringComparison.Ordinal);
                using (IStore store = _stores.Open(asClerk)) Assert.Equal(3, store.CountRows("entry"));
                TestServers.Execute(address, $"DROP USER '{user}'@'127.0.0.1'");
                break;
            default:
                Assert.Contains("not on this machine", Assert.Single(_stores.ServerOf(address).Hindrances("/nowhere/books.fdb")),
                    StringComparison.Ordinal);
                break;
        }
    }

    [Fact]
    public void The_new_database_belongs_to_the_owner_that_office_yaml_names()
    {
        string owner = "owner" + Environment.ProcessId;
        StoreAddress address = _servers.Database("postgresql", "owned");
        TestServers.Execute(address with { Path = "postgres" }, $"CREATE ROLE {owner}");
        try
        {
            using (IStoreBuilder builder = _stores.Create(address with { Server = address.Server! with { Owner = owner } }))
            {
                builder.CreateTable(Account);
                builder.Complete(new Dictionary<string, string>());
            }
            Assert.Equal(owner, TestServers.Ask(address, "SELECT tableowner FROM pg_tables WHERE tablename = 'account'"));
            using IStore store = _stores.Open(address);
            Assert.Equal(owner, store.Identity.HeaderFields["owner"]);
        }
        finally
        {
            _stores.ServerOf(address).Remove(address.Path);
            TestServers.Execute(address with { Path = "postgres" }, $"DROP ROLE {owner}");
        }
    }

    [Theory]
    [InlineData("postgresql")]
    [InlineData("mariadb")]
    public void Whatever_is_changed_in_records_changes_the_mark_and_reading_does_not(string engine)
    {
        StoreAddress address = Books(engine);
        IStoreServer server = _stores.ServerOf(address);
        string q = engine == "mariadb" ? "`" : "\"";
        var seen = new HashSet<string>();
        void isNew(string after)
        {
            // On PostgreSQL there is none while another test's change is under way on the server.
            string? mark = null;
            for (int i = 0; i < 5000 && (mark = server.ChangeMark(address.Path)) is null; i++) Thread.Sleep(1);
            Assert.True(seen.Add(Assert.IsType<string>(mark)), $"after {after} the mark is what it was");
        }
        isNew("nothing");
        foreach (string change in (string[])["INSERT INTO entry VALUES (9, 7, 1.5)", $"UPDATE entry SET amount = 2 WHERE {q}no{q} = 9",
            $"DELETE FROM entry WHERE {q}no{q} = 9", "ALTER TABLE account ADD COLUMN more INT DEFAULT 3", "TRUNCATE TABLE entry",
            "DROP TABLE entry"])
        {
            TestServers.Execute(address, change);
            isNew(change);
        }
        // What was under way before, and ends now.
        using (DbConnection other = TestServers.Connect(address))
        {
            using DbTransaction under = other.BeginTransaction();
            using DbCommand command = other.CreateCommand();
            (command.Transaction, command.CommandText) = (under, "UPDATE account SET name = 'x' WHERE id = 7");
            command.ExecuteNonQuery();
            if (server.ChangeMark(address.Path) is { } meanwhile) seen.Add(meanwhile);
            under.Commit();
        }
        isNew("the end of a change");
        int same = 0;
        for (int i = 0; i < 500 && same == 0; i++)
        {
            string? before = server.ChangeMark(address.Path);
            Assert.Equal("2", TestServers.Ask(address, "SELECT COUNT(*) FROM account"));
            if (before is not null && server.ChangeMark(address.Path) == before) same++;
        }
        Assert.Equal(1, same);
    }

    [Fact]
    public void Where_a_server_tells_of_no_changes_there_is_no_mark()
    {
        StoreAddress address = Books("firebird"), other = Books("mariadb", "isam");
        Assert.Null(_stores.ServerOf(address).ChangeMark(address.Path));
        Assert.NotNull(_stores.ServerOf(other).ChangeMark(other.Path));
        TestServers.Execute(other, "CREATE TABLE old_ways (a INT) ENGINE = MyISAM");
        Assert.Null(_stores.ServerOf(other).ChangeMark(other.Path));
    }
}
