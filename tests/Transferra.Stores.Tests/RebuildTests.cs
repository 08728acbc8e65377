using System.Data.Common;
using System.Globalization;
using Transferra.Core.Backup;
using Transferra.Core.Machine;
using Transferra.Core.Office;
using Transferra.Core.Records;
using Transferra.Tests;

namespace Transferra.Stores.Tests;

/// <summary>Databases written out and made again on the same engine: everything that the server's own catalog tells of the one is told of
/// the other, and so are the records.</summary>
public sealed class RebuildTests : IDisposable
{
    private readonly TestServers _servers = new();
    private readonly TempFolder _folder = new();
    private readonly StoreOpener _stores = new();

    public void Dispose()
    {
        _servers.Dispose();
        _folder.Dispose();
    }

    private IReadOnlyList<string> NotCarried { get; set; } = [];

    private IReadOnlyList<string> Remarks { get; set; } = [];

    private StoreAddress Again(StoreAddress address, string? textEncoding = null)
    {
        using (IStore store = _stores.Open(address, textEncoding)) StoreExport.Write(store, _stores, _folder["out"], new ListObserver(),
            CancellationToken.None);
        NotCarried = StoreExport.Describe(_folder["out"]).NotCarried;
        StoreAddress back = _servers.Database(address.Engine, "back");
        Remarks = StoreExport.Load(_folder["out"], _stores, back, new ListObserver(), CancellationToken.None);
        return back;
    }

    private string DigestOf(StoreAddress address, string? textEncoding = null) => new StorePlaces(_stores, new DiskVolume())
        .DigestOf(address, textEncoding, CancellationToken.None);

    // What the catalog says, line by line; the name of the database itself is not a difference.
    private static string Listing(StoreAddress address, params string[] questions)
    {
        using DbConnection connection = TestServers.Connect(address);
        var lines = new List<string>();
        foreach (string question in questions)
        {
            using DbCommand command = connection.CreateCommand();
#pragma warning disable CA2100 // questions of tests
            command.CommandText = question;
#pragma warning restore CA2100
            using DbDataReader reader = command.ExecuteReader();
            lines.Add("-- " + question);
            while (reader.Read())
                lines.Add(string.Join(" | ", Enumerable.Range(0, reader.FieldCount)
                    .Select(i => reader.IsDBNull(i) ? "-" : reader.GetValue(i) is byte[] bytes
                    ? Convert.ToHexString(bytes) : Convert.ToString(reader.GetValue(i), CultureInfo.InvariantCulture)?.Trim())));
        }
        return string.Join('\n', lines).Replace(address.Path, "{database}", StringComparison.Ordinal);
    }

    private static readonly string[] PostgresqlMade =
    [
        "CREATE TYPE mood AS ENUM ('calm', 'loud')", "CREATE TYPE part AS (a int, b text)",
            "CREATE DOMAIN posint AS int DEFAULT 1 CHECK (VALUE > 0)",
            "CREATE SEQUENCE voucher INCREMENT 5 START 100 CYCLE MAXVALUE 5000", "SELECT nextval('voucher'), nextval('voucher')",
        "CREATE FUNCTION tax(numeric) RETURNS numeric LANGUAGE sql IMMUTABLE AS 'SELECT $1 * 0.2'",
        """
        CREATE TABLE "Odd / name" (id bigint GENERATED ALWAYS AS IDENTITY (START 7) PRIMARY KEY,
          code varchar(8) COLLATE "C" NOT NULL DEFAULT upper('none'), m mood, p posint, pt part, j jsonb, addr inet, tags text[],
          iv interval, ts timestamptz, price numeric, due money,
          net numeric(10,2) CHECK (net >= 0), gross numeric GENERATED ALWAYS AS (net + tax(net)) STORED, raw bytea, u uuid, f float8,
            b boolean, ch char(5), bt bit varying(9), v int DEFAULT nextval('voucher'), CONSTRAINT uq UNIQUE (code, m),
            EXCLUDE USING btree (u WITH =)) WITH (fillfactor = 70)
        """,
        "CREATE TABLE child (no serial PRIMARY KEY, parent bigint REFERENCES \"Odd / name\" ON DELETE CASCADE DEFERRABLE INITIALLY "
            + "DEFERRED, note text)",
            "CREATE TABLE child_more (extra int) INHERITS (child)",
        "CREATE TABLE by_year (y int NOT NULL, t text, PRIMARY KEY (y)) PARTITION BY RANGE (y)",
            "CREATE TABLE by_year_1 PARTITION OF by_year FOR VALUES FROM (2000) TO (2020)",
                "CREATE TABLE by_year_rest PARTITION OF by_year DEFAULT",
        "CREATE INDEX by_lower ON \"Odd / name\" (lower(code) DESC) WHERE net > 1", "CREATE INDEX part_t ON by_year (t)",
        "CREATE VIEW z_first AS SELECT id, gross FROM \"Odd / name\" WHERE m = 'calm'", "CREATE VIEW a_second AS SELECT * FROM z_first",
            "CREATE MATERIALIZED VIEW sums AS SELECT count(*) AS n FROM child", "CREATE UNIQUE INDEX ON sums (n)",
        "CREATE FUNCTION stamp() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN NEW.note := 'stamped'; RETURN NEW; END $$",
            "CREATE TRIGGER stamp BEFORE INSERT ON child FOR EACH ROW EXECUTE FUNCTION stamp()",
            "CREATE TRIGGER asleep BEFORE UPDATE ON child FOR EACH ROW EXECUTE FUNCTION stamp()",
                "ALTER TABLE child DISABLE TRIGGER asleep",
        "CREATE PROCEDURE clear_notes() LANGUAGE sql AS 'UPDATE child SET note = NULL'",
            "CREATE RULE quiet AS ON DELETE TO by_year_1 DO INSTEAD NOTHING",
            "CREATE STATISTICS st ON code, m FROM \"Odd / name\"",
        "COMMENT ON TABLE child IS 'it''s a child'", "COMMENT ON COLUMN child.note IS 'note'",
            "COMMENT ON FUNCTION tax(numeric) IS 'a fifth'",
            "COMMENT ON CONSTRAINT uq ON \"Odd / name\" IS 'once'", "COMMENT ON TYPE mood IS 'moods'",
                "COMMENT ON TRIGGER stamp ON child IS 'stamps'",
            "COMMENT ON INDEX by_lower IS 'lower'",
        "GRANT SELECT ON child TO PUBLIC", "GRANT UPDATE (note) ON child TO PUBLIC", "REVOKE ALL ON FUNCTION tax(numeric) FROM PUBLIC",
        "INSERT INTO \"Odd / name\" (code, m, p, pt, j, addr, tags, iv, ts, price, due, net, raw, u, f, b, ch, bt) VALUES ('a\\b', "
            + "'calm', 3, ROW(1, 'x,\"y'), '{\"k\": [1, null]}', '10.1.2.3/24', ARRAY['a,b', NULL, E'q\\'\\n\\t\"\\\\'], '1 year 2 "
            + "days 03:04:05.6', '2024-02-29 12:00:00+05', 12345678901234567890123456789012345678901234567890.5, 1234.56, 5.25, "
            + "'\\x00ff5c', 'ffffffff-0000-0000-0000-000000000001', 'NaN', true, 'ab', B'10110')",
        "INSERT INTO \"Odd / name\" (code) VALUES ('')", "INSERT INTO child (parent, note) VALUES (7, 'as it was')",
            "UPDATE child SET note = E'tab\\there'", "INSERT INTO child_more (parent, extra) VALUES (8, 9)",
            "INSERT INTO by_year VALUES (2005, 'old'), (2024, 'new')", "REFRESH MATERIALIZED VIEW sums",
                "ALTER TABLE by_year_1 ENABLE RULE quiet",
    ];

    private static readonly string[] PostgresqlAsked =
    [
        "SELECT table_name, column_name, ordinal_position, column_default, is_nullable, data_type, udt_name, "
            + "character_maximum_length, numeric_precision, numeric_scale, collation_name, is_identity, identity_generation, "
            + "identity_start, is_generated, generation_expression FROM information_schema.columns "
            + "WHERE table_schema = 'public' ORDER BY 1, 3",
        "SELECT conrelid::regclass::text, conname, pg_get_constraintdef(oid) FROM pg_constraint WHERE connamespace = "
            + "'public'::regnamespace ORDER BY 1, 2",
            "SELECT indexname, indexdef FROM pg_indexes WHERE schemaname = 'public' ORDER BY 1",
        "SELECT viewname, definition FROM pg_views WHERE schemaname = 'public' UNION ALL SELECT matviewname, definition FROM "
            + "pg_matviews WHERE schemaname = 'public' ORDER BY 1", "SELECT tgrelid::regclass::text, tgname, tgenabled, "
            + "pg_get_triggerdef(oid) FROM pg_trigger WHERE NOT tgisinternal ORDER BY 1, 2",
        "SELECT proname, pg_get_functiondef(oid), proacl::text FROM pg_proc WHERE pronamespace = 'public'::regnamespace ORDER BY 1",
            "SELECT sequencename, data_type, start_value, min_value, max_value, increment_by, cycle, last_value "
                + "FROM pg_sequences ORDER BY 1",
        "SELECT typname, typtype, (SELECT string_agg(enumlabel, ',' ORDER BY enumsortorder) FROM pg_enum WHERE enumtypid = t.oid) "
            + "FROM pg_type t WHERE typnamespace = 'public'::regnamespace AND typname !~ '^_' ORDER BY 1", "SELECT tablename, "
            + "rulename, definition FROM pg_rules WHERE schemaname = 'public' ORDER BY 1, 2",
        "SELECT objoid::regclass::text, objsubid, description FROM pg_description WHERE classoid = 'pg_class'::regclass AND objoid "
            + ">= 16384 ORDER BY 1, 2",
            "SELECT description FROM pg_description WHERE classoid <> 'pg_class'::regclass AND objoid >= 16384 ORDER BY 1",
        "SELECT relname, relkind, reloptions::text, relacl::text, relispartition, pg_get_expr(relpartbound, oid), "
            + "pg_get_partkeydef(oid) FROM pg_class WHERE relnamespace = 'public'::regnamespace ORDER BY 1, 2", "SELECT "
            + "attrelid::regclass::text, attname, attacl::text FROM pg_attribute WHERE attacl IS NOT NULL "
            + "AND attrelid >= 16384 ORDER BY 1",
        "SELECT inhrelid::regclass::text, inhparent::regclass::text FROM pg_inherits ORDER BY 1",
            "SELECT pg_get_statisticsobjdef(oid) FROM pg_statistic_ext ORDER BY 1",
            "SELECT datcollate, datctype, pg_encoding_to_char(encoding) FROM pg_database WHERE datname = current_database()",
        "SELECT id, code, m::text, p, pt::text, j::text, addr::text, tags::text, iv::text, ts AT TIME ZONE 'UTC', price::text, "
            + "due::numeric, net, gross, encode(raw, 'hex'), u::text, f::text, b, ch, bt::text, v FROM \"Odd / name\" ORDER BY "
            + "id", "SELECT tableoid::regclass::text, * FROM child ORDER BY no", "SELECT tableoid::regclass::text, * "
            + "FROM by_year ORDER BY y", "SELECT * FROM sums",
    ];

    [Fact]
    public void A_PostgreSQL_database_comes_back_with_everything_its_catalog_tells()
    {
        StoreAddress address = _servers.Made("postgresql", "books", PostgresqlMade);
        StoreAddress back = Again(address);
        Assert.Equal(Listing(address, PostgresqlAsked), Listing(back, PostgresqlAsked));
        Assert.Equal(DigestOf(address), DigestOf(back));
        Assert.Empty(Remarks);
        Assert.Empty(NotCarried);
    }

    private static readonly string[] MariadbMade =
    [
        "CREATE SEQUENCE voucher START WITH 100 INCREMENT BY 5", "SELECT nextval(voucher)",
        """
        CREATE TABLE `odd / name` (id INT UNSIGNED NOT NULL AUTO_INCREMENT,
          code VARCHAR(8) CHARACTER SET latin1 COLLATE latin1_general_cs NOT NULL DEFAULT 'none', kind ENUM('a','b''c') DEFAULT 'a',
          flags SET('x','y'), bits BIT(12), due DATE, took TIME,
          at TIMESTAMP(3) NOT NULL DEFAULT current_timestamp(3) ON UPDATE current_timestamp(3),
          net DECIMAL(12,3) CHECK (net >= 0), gross DECIMAL(14,3) GENERATED ALWAYS AS (net * 1.2) STORED, j JSON, u UUID, ip INET6,
            y YEAR, big BIGINT UNSIGNED, raw VARBINARY(20), pic LONGBLOB, g POINT, f DOUBLE, t LONGTEXT COMMENT 'free text',
            PRIMARY KEY (id), UNIQUE KEY uq (code, kind), KEY pre (t(10)),
            FULLTEXT KEY ft (t)) ENGINE=InnoDB AUTO_INCREMENT=50 COMMENT='odd, isn''t it' ROW_FORMAT=DYNAMIC
        """,
        "CREATE TABLE child (no INT PRIMARY KEY, parent INT UNSIGNED, CONSTRAINT up FOREIGN KEY (parent) REFERENCES `odd / name` "
            + "(id) ON DELETE CASCADE) ENGINE=InnoDB", "CREATE TABLE flat (a INT, "
            + "b CHAR(3)) ENGINE=Aria PARTITION BY HASH (a) PARTITIONS 3",
        "CREATE VIEW z_first AS SELECT id, gross FROM `odd / name` WHERE kind = 'a'", "CREATE VIEW a_second AS SELECT * FROM z_first",
            "CREATE FUNCTION tax(n DECIMAL(12,3)) RETURNS DECIMAL(12,3) DETERMINISTIC RETURN n * 0.2",
            "CREATE PROCEDURE clear_all(IN x INT) COMMENT 'clears' BEGIN DELETE FROM child WHERE no = x; SET @done = 1; END",
        "CREATE TRIGGER stamp BEFORE INSERT ON child FOR EACH ROW SET NEW.no = NEW.no + 1000",
            "CREATE EVENT nightly ON SCHEDULE EVERY 1 DAY STARTS '2030-01-01 00:00:00' DISABLE DO DELETE FROM child",
        "SET sql_mode = ''; INSERT INTO `odd / name` (code, kind, flags, bits, due, took, at, net, j, u, ip, y, big, raw, pic, g, f, "
            + "t) VALUES ('a\\\\b\\tc', 'b''c', 'x,y', b'101100000001', '0000-00-00', '-100:00:01', '2024-02-29 12:00:00.125', 5.25, "
            + "'{\"k\": [1, null]}', '123e4567-e89b-12d3-a456-426655440000', '::1', 2024, 18446744073709551615, x'00FF5C', x'0001', "
            + "POINT(1, 2), 0.1, 'line\\nnext \\\\N')",
        "INSERT INTO `odd / name` (code) VALUES ('')", "INSERT INTO child VALUES (1, 50)",
            "INSERT INTO flat VALUES (1, 'x'), (2, NULL)",
            "ALTER TABLE `odd / name` AUTO_INCREMENT = 77",
    ];

    [Fact]
    public void A_MariaDB_database_comes_back_with_everything_its_catalog_tells()
    {
        StoreAddress address = _servers.Made("mariadb", "books", MariadbMade);
        // Somebody with rights in it: also those come back.
        StoreAddress clerk = _servers.AsClerk(address, _folder.Path);
        TestServers.Execute(address, $"GRANT UPDATE (t) ON `{address.Path}`.`odd / name` TO '{clerk.Server!.User}'@'%'");
        string[] questions =
        [
            "SELECT table_name, table_type, engine, row_format, auto_increment, table_collation, create_options, table_comment FROM "
                + "information_schema.tables WHERE table_schema = database() ORDER BY 1",
            "SELECT table_name, column_name, ordinal_position, column_default, is_nullable, column_type, character_set_name, "
                + "collation_name, column_key, extra, column_comment, generation_expression FROM information_schema.columns WHERE "
                + "table_schema = database() ORDER BY 1, 3",
            "SELECT table_name, index_name, seq_in_index, column_name, non_unique, sub_part, index_type FROM "
                + "information_schema.statistics WHERE table_schema = database() ORDER BY 1, 2, 3", "SELECT constraint_name, table_name, "
                + "referenced_table_name, delete_rule, update_rule FROM information_schema.referential_constraints WHERE "
                + "constraint_schema = database() ORDER BY 1",
            "SELECT table_name, constraint_name, check_clause FROM information_schema.check_constraints WHERE constraint_schema = "
                + "database() ORDER BY 1, 2",
                "SELECT table_name, view_definition, definer, security_type FROM information_schema.views WHERE table_schema = "
                    + "database() ORDER BY 1",
            "SELECT routine_name, routine_type, dtd_identifier, routine_definition, sql_mode, definer, routine_comment, is_deterministic "
                + "FROM information_schema.routines WHERE routine_schema = database() ORDER BY 1", "SELECT specific_name, "
                + "ordinal_position, parameter_name, dtd_identifier FROM information_schema.parameters WHERE specific_schema = "
                + "database() ORDER BY 1, 2",
            "SELECT trigger_name, event_object_table, action_timing, event_manipulation, action_statement, sql_mode, definer FROM "
                + "information_schema.triggers WHERE trigger_schema = database() ORDER BY 1", "SELECT event_name, status, "
                + "interval_value, interval_field, event_definition, definer FROM information_schema.events WHERE event_schema = "
                + "database() ORDER BY 1",
            "SELECT table_name, partition_name, partition_method, partition_expression FROM information_schema.partitions WHERE "
                + "table_schema = database() ORDER BY 1, 2", "SELECT next_not_cached_value, increment FROM voucher", "SELECT "
                + "default_character_set_name, default_collation_name FROM information_schema.schemata WHERE schema_name = database()",
            "SELECT grantee, privilege_type FROM information_schema.schema_privileges WHERE table_schema = database() OR "
                + "replace(table_schema, '\\\\', '') = database() ORDER BY 1, 2", "SELECT grantee, table_name, column_name, "
                + "privilege_type FROM information_schema.column_privileges WHERE table_schema = database() ORDER BY 1, 2, 3",
            "SELECT id, code, kind, flags, bits + 0, CAST(due AS CHAR), CAST(took AS CHAR), CAST(at AS CHAR), net, gross, j, u, ip, y, "
                + "big, hex(raw), hex(pic), ST_AsText(g), f, t "
                + "FROM `odd / name` ORDER BY id", "SELECT * FROM child", "SELECT * FROM flat ORDER BY a", "SELECT * FROM a_second",
        ];
        StoreAddress back = Again(address);
        Assert.Empty(Remarks);
        Assert.Equal(Listing(address, questions), Listing(back, questions));
        Assert.Equal(DigestOf(address), DigestOf(back));
        Assert.Empty(NotCarried);
    }

    private const string ManyRows = "INSERT INTO t SELECT seq, 30000 - seq, concat('k', seq * 7), seq % 91 FROM seq_1_to_9001";

    private static readonly string[] ManyTables =
    [
        "CREATE TABLE p (x INT PRIMARY KEY)", "INSERT INTO p SELECT seq - 1 FROM seq_1_to_91",
        "CREATE TABLE t (n INT AUTO_INCREMENT, b INT NOT NULL, c VARCHAR(20), x INT, PRIMARY KEY (b), UNIQUE KEY (c), KEY (n), "
            + "KEY (x, n), FOREIGN KEY (x) REFERENCES p (x))", ManyRows,
        "CREATE TABLE u (a INT PRIMARY KEY, c VARCHAR(20), UNIQUE KEY (c))",
        "INSERT INTO u SELECT seq, concat('k', seq) FROM seq_1_to_3000",
        "CREATE TABLE moved (a INT, b INT) ENGINE = MyISAM", "INSERT INTO moved SELECT seq, seq % 3 FROM seq_1_to_5000",
    ];

    [Fact]
    public void Many_records_of_MariaDB_come_over_two_connections()
    {
        StoreAddress address = _servers.Made("mariadb", "many", ManyTables), back = Again(address);
        Assert.Equal([], Remarks);
        Assert.Equal(DigestOf(address), DigestOf(back));
        string[] told = ["SHOW CREATE TABLE t", "SHOW CREATE TABLE p", "SHOW CREATE TABLE u", "SHOW CREATE TABLE moved",
            "SELECT count(*) FROM t", "CHECK TABLE t"];
        Assert.Equal(Listing(address, told), Listing(back, told));
    }

    [Theory]
    [InlineData("u", "\n7,k7", "\n7,k2900", "UNIQUE KEY")] // found when the index is built
    [InlineData("t", ",k7,", ",k7000,", "refused")] // its index has to be there from the beginning
    [InlineData("t", ",29999,", ",29900,", "refused")]
    public void What_was_never_in_one_database_leaves_nothing(string table, string was, string now, string said)
    {
        StoreAddress address = _servers.Made("mariadb", "many", ManyTables);
        using (IStore store = _stores.Open(address, null)) StoreExport.Write(store, _stores, _folder["out"], new ListObserver(),
            CancellationToken.None);
        string file = Path.Combine(_folder["out"], table + ".csv"), text = File.ReadAllText(file);
        int at = text.IndexOf(was, StringComparison.Ordinal);
        Assert.True(at > 0, text[..200]);
        File.WriteAllText(file, text[..at] + now + text[(at + was.Length)..]);
        StoreAddress back = _servers.Database("mariadb", "back");
        TransferraException error = Assert.Throws<TransferraException>(() =>
            StoreExport.Load(_folder["out"], _stores, back, new ListObserver(), CancellationToken.None));
        Assert.Contains(said, error.Message, StringComparison.Ordinal);
        Assert.False(new StorePlaces(_stores, new DiskVolume()).Exists(back));
    }

    [Theory]
    [InlineData("UTF8", null)]
    [InlineData("NONE", "windows-1252")]
    public void A_Firebird_database_comes_back_with_everything_its_catalog_tells(string set, string? textEncoding)
    {
        StoreAddress address = _servers.Made("firebird", "books", "CREATE DOMAIN MONEY AS NUMERIC(14,2) DEFAULT 0 CHECK (VALUE >= -1000)",
            "CREATE SEQUENCE VOUCHER", "ALTER SEQUENCE VOUCHER RESTART WITH 41", "CREATE EXCEPTION TOO_MUCH 'too much'",
            $"CREATE TABLE \"odd / name\" (ID BIGINT GENERATED BY DEFAULT AS IDENTITY PRIMARY KEY, CODE VARCHAR(8) CHARACTER SET {set} "
                + "DEFAULT 'none' NOT NULL, NET MONEY, GROSS COMPUTED BY (NET * 1.2), D DATE, T TIME, TS TIMESTAMP, F DOUBLE PRECISION, "
                + $"B BOOLEAN, C CHAR(5) CHARACTER SET {set}, NOTE BLOB SUB_TYPE TEXT CHARACTER SET {set}, PIC BLOB SUB_TYPE BINARY, U "
                + "CHAR(16) CHARACTER SET OCTETS, CONSTRAINT UQ UNIQUE (CODE, D))",
            "CREATE TABLE CHILD (NR INTEGER NOT NULL PRIMARY KEY, PARENT BIGINT REFERENCES \"odd / name\" ON DELETE CASCADE, NOTE "
                + "VARCHAR(20))",
                "CREATE DESCENDING INDEX BY_NET ON \"odd / name\" (NET)", "CREATE INDEX BY_EXPR ON CHILD COMPUTED BY (UPPER(NOTE))",
                "CREATE INDEX ASLEEP ON CHILD (NOTE)", "ALTER INDEX ASLEEP INACTIVE",
            "CREATE VIEW V_FIRST AS SELECT ID, GROSS FROM \"odd / name\" WHERE B IS TRUE",
                "CREATE PROCEDURE DOUBLED (X INTEGER) RETURNS (Y INTEGER) AS BEGIN Y = X * 2; SUSPEND; END",
                "CREATE FUNCTION TAX (N NUMERIC(14,2)) RETURNS NUMERIC(14,2) AS BEGIN RETURN N * 0.2; END",
            "CREATE TRIGGER STAMP FOR CHILD BEFORE INSERT AS BEGIN NEW.NOTE = 'stamped'; END",
                "CREATE TRIGGER OFF_ONE FOR CHILD INACTIVE BEFORE UPDATE AS BEGIN NEW.NOTE = NULL; END", "CREATE ROLE CLERK",
                "GRANT SELECT, UPDATE ON CHILD TO ROLE CLERK", "COMMENT ON TABLE CHILD IS 'it''s a child'",
                    "COMMENT ON COLUMN CHILD.NOTE IS 'note'",
            "INSERT INTO \"odd / name\" (CODE, NET, D, T, TS, F, B, C, NOTE, PIC, U) VALUES "
                + $"({(textEncoding is null ? "'café'" : "x'636166E9'")}, 5.25, '2024-02-29', '12:34:56.7891', '2024-02-29 "
                + "01:02:03.0001', 0.1, TRUE, 'ab', 'tab\there', x'00FF5C', x'000102030405060708090A0B0C0D0E0F')",
            "INSERT INTO \"odd / name\" (CODE) VALUES ('')", "INSERT INTO CHILD VALUES (1, 1, 'x')", "UPDATE CHILD SET NOTE = 'as it was'");
        string[] questions =
        [
            "SELECT f.RDB$RELATION_NAME, f.RDB$FIELD_NAME, f.RDB$FIELD_POSITION, f.RDB$NULL_FLAG, f.RDB$DEFAULT_SOURCE, "
                + "t.RDB$FIELD_TYPE, COALESCE(t.RDB$FIELD_SUB_TYPE, 0), t.RDB$FIELD_LENGTH, COALESCE(t.RDB$FIELD_SCALE, 0), "
                + "COALESCE(t.RDB$CHARACTER_SET_ID, 0), t.RDB$COMPUTED_SOURCE, f.RDB$IDENTITY_TYPE, f.RDB$DESCRIPTION FROM "
                + "RDB$RELATION_FIELDS f JOIN RDB$FIELDS t ON t.RDB$FIELD_NAME = f.RDB$FIELD_SOURCE WHERE COALESCE(f.RDB$SYSTEM_FLAG, 0) "
                + "= 0 ORDER BY 1, 3",
            "SELECT RDB$FIELD_NAME, RDB$FIELD_TYPE, RDB$FIELD_PRECISION, RDB$FIELD_SCALE, RDB$VALIDATION_SOURCE, RDB$DEFAULT_SOURCE FROM "
                + "RDB$FIELDS WHERE RDB$FIELD_NAME NOT STARTING 'RDB$' AND COALESCE(RDB$SYSTEM_FLAG, 0) = 0 ORDER BY 1", "SELECT "
                + "RDB$RELATION_NAME, RDB$INDEX_NAME, RDB$UNIQUE_FLAG, COALESCE(RDB$INDEX_INACTIVE, 0), COALESCE(RDB$INDEX_TYPE, 0), "
                + "RDB$FOREIGN_KEY, RDB$EXPRESSION_SOURCE FROM RDB$INDICES WHERE COALESCE(RDB$SYSTEM_FLAG, 0) = 0 ORDER BY 1, 2",
            "SELECT c.RDB$RELATION_NAME, c.RDB$CONSTRAINT_TYPE, c.RDB$INDEX_NAME, r.RDB$DELETE_RULE FROM RDB$RELATION_CONSTRAINTS c LEFT "
                + "JOIN RDB$REF_CONSTRAINTS r ON r.RDB$CONSTRAINT_NAME = c.RDB$CONSTRAINT_NAME ORDER BY 1, 2, 3", "SELECT "
                + "RDB$RELATION_NAME, RDB$VIEW_SOURCE, RDB$DESCRIPTION FROM RDB$RELATIONS "
                + "WHERE COALESCE(RDB$SYSTEM_FLAG, 0) = 0 ORDER BY 1",
            "SELECT RDB$PROCEDURE_NAME, RDB$PROCEDURE_SOURCE FROM RDB$PROCEDURES ORDER BY 1",
                "SELECT RDB$FUNCTION_NAME, RDB$FUNCTION_SOURCE FROM RDB$FUNCTIONS WHERE COALESCE(RDB$SYSTEM_FLAG, 0) = 0 ORDER BY 1",
                "SELECT RDB$TRIGGER_NAME, RDB$RELATION_NAME, RDB$TRIGGER_TYPE, RDB$TRIGGER_INACTIVE, RDB$TRIGGER_SOURCE FROM "
                    + "RDB$TRIGGERS WHERE COALESCE(RDB$SYSTEM_FLAG, 0) = 0 ORDER BY 1",
            "SELECT RDB$EXCEPTION_NAME, RDB$MESSAGE FROM RDB$EXCEPTIONS ORDER BY 1",
                "SELECT RDB$USER, RDB$PRIVILEGE, RDB$RELATION_NAME FROM RDB$USER_PRIVILEGES WHERE RDB$RELATION_NAME NOT STARTING 'RDB$' "
                    + "AND RDB$RELATION_NAME NOT STARTING 'SQL$' AND RDB$RELATION_NAME NOT STARTING 'MON$' "
                    + "ORDER BY 1, 3, 2", "SELECT GEN_ID(VOUCHER, 0) FROM RDB$DATABASE",
            "SELECT g.RDB$GENERATOR_NAME FROM RDB$GENERATORS g WHERE COALESCE(RDB$SYSTEM_FLAG, 0) = 0 ORDER BY 1",
                "SELECT ID, CAST(CODE AS VARCHAR(8) CHARACTER SET OCTETS), NET, GROSS, D, T, TS, F, B, C, CAST(NOTE AS VARCHAR(100)), "
                    + "PIC, U FROM \"odd / name\" ORDER BY ID", "SELECT * FROM CHILD", "SELECT * FROM V_FIRST",
        ];
        StoreAddress back = Again(address, textEncoding);
        Assert.Equal(Listing(address, questions), Listing(back, questions));
        Assert.Equal(DigestOf(address, textEncoding), DigestOf(back, textEncoding));
        Assert.Empty(Remarks);
        Assert.Empty(NotCarried);
        // Counting goes on, and triggers are awake again.
        Assert.Equal("3", TestServers.Ask(back, "INSERT INTO \"odd / name\" (CODE) VALUES ('n') RETURNING ID"));
        Assert.Equal("stamped", TestServers.Ask(back, "INSERT INTO CHILD VALUES (2, 1, 'x') RETURNING NOTE"));
    }

    [Theory]
    [InlineData("postgresql")]
    [InlineData("mariadb")]
    [InlineData("firebird")]
    public void What_a_user_may_not_see_is_told_before(string engine)
    {
        string quote = engine == "mariadb" ? "`" : "\"";
        StoreAddress address = _servers.Made(engine, "one", $"CREATE TABLE {quote}t{quote} ({quote}id{quote} INT)");
        foreach (string statement in engine switch
        {
            "postgresql" => (string[])["CREATE FOREIGN DATA WRAPPER far", "CREATE SERVER away FOREIGN DATA WRAPPER far",
                "CREATE FOREIGN TABLE x (a int) SERVER away", "CREATE PUBLICATION told"],
            "mariadb" => ["CREATE PROCEDURE hidden() SELECT 1"],
            _ => ["GRANT SELECT ON \"t\" TO PUBLIC"],
        }) TestServers.Execute(address, statement);
        StoreAddress asked = engine == "postgresql" ? address : _servers.AsClerk(address, _folder.Path);
        using IStore store = _stores.Open(asked);
        string told = string.Join('\n', store.NotCarried());
        Assert.Contains(engine switch
        {
            "postgresql" => "the foreign table public.x",
            "mariadb" => "the rights of other users",
            _ =>
            "this user may not use the engine's own backup"
        }, told, StringComparison.Ordinal);
        if (engine == "postgresql") Assert.Contains("the publication told", told, StringComparison.Ordinal);
    }
}
