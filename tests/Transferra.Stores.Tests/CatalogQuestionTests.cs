using System.Data.Common;
using Transferra.Core.Machine;
using Transferra.Core.Records;
using Transferra.Tests;

namespace Transferra.Stores.Tests;

/// <summary>What is looked up of tables and columns: names that cannot be told apart, and no other database of the server.</summary>
[Collection(nameof(KeptConnectionsTests))] // a setting of the whole server is changed for a moment
public sealed class CatalogQuestionTests : IDisposable
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

    // Of two such tables one was read twice and the other never, and a match of the two called them proved.
    [Theory]
    [MemberData(nameof(Engines))]
    public void Tables_that_differ_only_by_case_are_refused_with_both_names(string engine)
    {
        char quote = engine == "mariadb" ? '`' : '"';
        StoreAddress store = _servers.Made(engine, "twins", [.. ((string[])["CREATE TABLE 'kunden' ('a' INTEGER NOT NULL PRIMARY KEY)",
            "CREATE TABLE 'Kunden' ('a' INTEGER NOT NULL PRIMARY KEY)"]).Select(statement => statement.Replace('\'', quote))]);
        TransferraException refused = Assert.Throws<TransferraException>(() => _stores.Open(store));
        Assert.Contains("has two tables whose names differ only by case, Kunden and kunden", refused.Message, StringComparison.Ordinal);
        Assert.Contains("Ask the vendor", refused.Next, StringComparison.Ordinal);
    }

    [Theory]
    [InlineData("postgresql")]
    [InlineData("firebird")] // of MariaDB's columns there are none such
    public void Columns_that_differ_only_by_case_are_refused_with_their_table(string engine)
    {
        StoreAddress store = _servers.Made(engine, "twins", "CREATE TABLE \"kunden\" (\"nr\" INTEGER, \"Nr\" INTEGER)");
        Assert.Contains("has two columns whose names differ only by case, Nr and nr", Assert.Throws<TransferraException>(() =>
            _stores.Open(store)).Message, StringComparison.Ordinal);
    }

    [Theory]
    [InlineData("CREATE TABLE \"käufer\" (a); CREATE TABLE \"kÄufer\" (a)", "has two tables whose names differ only by case, kÄufer and")]
    [InlineData("CREATE TABLE t (\"größe\", \"grÖße\")", "has two columns whose names differ only by case, grÖße and größe")]
    public void In_SQLite_letters_that_the_engine_itself_does_not_fold_are_refused(string made, string said)
    {
        using (var connection = new Microsoft.Data.Sqlite.SqliteConnection($"Data Source={_folder["a.db"]};Pooling=False"))
        {
            connection.Open();
            using Microsoft.Data.Sqlite.SqliteCommand command = connection.CreateCommand();
#pragma warning disable CA2100
            command.CommandText = made;
#pragma warning restore CA2100
            command.ExecuteNonQuery();
        }
        using IStore store = _stores.Open(new StoreAddress("sqlite", _folder["a.db"]));
        Assert.Contains(said, Assert.Throws<TransferraException>(store.ReadShape).Message, StringComparison.Ordinal);
    }

    [Theory]
    [InlineData("delimited", "kunden.csv", "KUNDEN.CSV", "whose names differ only by case, KUNDEN and kunden")]
    [InlineData("delimited", "kunden.csv", "kunden.txt", "named kunden")]
    [InlineData("dbf", "KUNDEN.DBF", "kunden.dbf", "whose names differ only by case, KUNDEN and kunden")]
    [InlineData("json-lines", "kunden.jsonl", "Kunden.jsonl", "whose names differ only by case, Kunden and kunden")]
    public void Files_of_one_table_are_refused_with_both_names(string engine, string one, string other, string said)
    {
        foreach (string name in (string[])[one, other])
        {
            if (engine != "dbf") File.WriteAllText(_folder[name], engine == "delimited" ? "n,v\n1,x\n" : "{\"n\": 1}\n");
            else
            {
                StoreAddress made = new("dbf", _folder["made-" + name]);
                using (IStoreBuilder builder = _stores.Create(made))
                {
                    builder.CreateTable(new TableShape("T", [new("N", FieldType.Integer)], [], []));
                    builder.Complete(new Dictionary<string, string>());
                }
                File.Copy(Directory.GetFiles(made.Path).Single(file => Path.GetExtension(file).Equals(".dbf",
                    StringComparison.OrdinalIgnoreCase)), _folder[name]);
            }
        }
        Assert.Contains($"has two tables {said}, which cannot be told apart", Assert.Throws<TransferraException>(() =>
            _stores.Open(new StoreAddress(engine, _folder.Path))).Message, StringComparison.Ordinal);
    }

    // A server of many databases would open the tables of all of them each time one is looked at.
    [Fact]
    public void MariaDB_opens_the_tables_of_no_other_database()
    {
        StoreAddress store = _servers.Made("mariadb", "alone", "CREATE TABLE a (n INT NOT NULL PRIMARY KEY, b INT DEFAULT 3)",
            "CREATE TABLE b (n INT NOT NULL PRIMARY KEY AUTO_INCREMENT, a INT, FOREIGN KEY (a) REFERENCES a (n), CHECK (a > 0))",
            "CREATE VIEW v AS SELECT n FROM a", "CREATE TRIGGER s BEFORE INSERT ON a FOR EACH ROW SET NEW.b = 4"),
            server = store with { Path = "mysql" };
        TestServers.Execute(server, "SET GLOBAL log_output = 'TABLE'; SET GLOBAL general_log = 1");
        try
        {
            using (IStore opened = _stores.Open(store))
            {
                _ = opened.ReadShape();
                _ = opened.Declarations();
                _ = opened.ListObjects();
                _ = opened.NotCarried();
                _ = opened.ReadScript(_folder.Path);
                Assert.Empty(opened.CheckPhysically());
            }
            IStoreServer of = _stores.ServerOf(store);
            _ = (of.Exists(store.Path), of.Sessions(store.Path), of.Hindrances(store.Path), of.ChangeMark(store.Path));
            _ = of.Doors(store.Path);
            TestServers.Execute(store, "DROP TRIGGER s"); // a table with one is not mended
            StoreAddress copy = _servers.Database("mariadb", "alone_copy");
            _stores.Copy(store, copy);
            using IStoreMender mender = _stores.Mend(copy, null);
            _ = mender.Prepare(new TableShape("b", [new("n", FieldType.Integer, true)], ["n"], []));
            _ = mender.SetPositions();
        }
        finally { TestServers.Execute(server, "SET GLOBAL general_log = 0; SET GLOBAL log_output = 'FILE'"); }
        List<string> asked = Rows(server, "SELECT DISTINCT CONVERT(argument USING utf8mb4) FROM mysql.general_log WHERE command_type = "
            + $"'Query' AND argument LIKE '%information\\_schema%' AND argument LIKE '%{store.Path}%' AND argument NOT LIKE "
            + "'%general_log%'", 0);
        TestServers.Execute(server, "TRUNCATE mysql.general_log");
        Assert.InRange(asked.Count, 20, 1000);
        Assert.DoesNotContain(asked.Where(question => !question.StartsWith("SET ", StringComparison.Ordinal)), question =>
            Rows(store, "EXPLAIN " + question, 9).Any(how => how.Contains("Scanned all databases", StringComparison.Ordinal)));
    }

    private static List<string> Rows(StoreAddress store, string sql, int column)
    {
        using DbConnection connection = TestServers.Connect(store);
        using DbCommand command = connection.CreateCommand();
#pragma warning disable CA2100 // statements of tests
        command.CommandText = sql;
#pragma warning restore CA2100
        using DbDataReader reader = command.ExecuteReader();
        var rows = new List<string>();
        while (reader.Read()) rows.Add(reader.IsDBNull(column) ? "" : reader.GetString(column));
        return rows;
    }
}
