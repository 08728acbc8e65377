// GrowthServer.cs: the databases of an office whose stores are on a server: tables with an index and links among each other, filled by the
// server itself. The servers are those of tests/servers.sh, and go with what is in them.
using System.Data.Common;
using System.Globalization;
using FirebirdSql.Data.FirebirdClient;
using Transferra.Core.Records;

namespace Transferra.Benchmarks;

internal static class GrowthServer
{
    private static int _made;

    /// <summary>Makes a company's database and fills it.</summary>
    /// <param name="engine">postgresql, mariadb or firebird.</param>
    /// <param name="shape">How large it is.</param>
    /// <returns>What office.yaml says of the store.</returns>
    public static string Make(string engine, GrowthShape shape)
    {
        StoreAddress at = ServersBenchmark.At(engine, FormattableString.Invariant($"growth_{Environment.ProcessId}_{_made++}"));
        ServerAddress server = at.Server!;
        if (engine == "firebird") FbConnection.CreateDatabase(Firebird(at), 8192, forcedWrites: true, overwrite: false);
        else Execute(at with { Path = engine == "postgresql" ? "postgres" : "" }, [$"CREATE DATABASE {at.Path}"]);
        Execute(at, Statements(engine, shape));
        return string.Create(CultureInfo.InvariantCulture,
            $"{{{engine}: {at.Path}, host: {server.Host}, port: {server.Port}, user: {server.User}, ")
                + $"password-file: {server.PasswordFile}}}";
    }

    private static IEnumerable<string> Statements(string engine, GrowthShape shape)
    {
        yield return "CREATE TABLE VER (WHAT VARCHAR(10) NOT NULL PRIMARY KEY, VAL VARCHAR(10))";
        yield return "INSERT INTO VER VALUES ('DATA', '1')";
        string texts = engine == "mariadb" ? "VARCHAR(40) CHARACTER SET ascii" : "VARCHAR(40)"; // its records have 8 KB at most
        string bytes = engine switch { "postgresql" => "TEXT", "mariadb" => "LONGTEXT", _ => "BLOB SUB_TYPE TEXT" };
        string columns = string.Concat(Enumerable.Range(0, shape.Columns).Select(at => string.Create(CultureInfo.InvariantCulture,
            $", c{at} {(at % 3) switch { 0 => "INTEGER", 1 => texts, _ => "DECIMAL(14,2)" }}")));
        for (int table = 0; table < shape.Tables; table++)
        {
            yield return FormattableString.Invariant(
                $"CREATE TABLE t{table} (id INTEGER NOT NULL PRIMARY KEY, made DATE, v {bytes}{columns})");
            yield return Filling(engine, table, shape);
            yield return FormattableString.Invariant($"CREATE INDEX i{table} ON t{table} (c0, made)");
            if (table > 0) yield return FormattableString.Invariant(
                $"ALTER TABLE t{table} ADD CONSTRAINT f{table} FOREIGN KEY (id) REFERENCES t{table - 1} (id)");
        }
    }

    private static string Filling(string engine, int table, GrowthShape shape)
    {
        string number = engine switch { "postgresql" => "i", "mariadb" => "seq", _ => ":i" };
        string text = engine == "mariadb" ? $"concat('text of record ', {number})" : $"'text of record ' || {number}";
        string values = string.Concat(Enumerable.Range(0, shape.Columns).Select(at => string.Create(CultureInfo.InvariantCulture,
            $", {(at % 3) switch { 0 => $"{number} * 7", 1 => text, _ => $"{number} * 79 / 100.0" }}")));
        string value = shape.ValueBytes == 0 ? "NULL" : engine == "firebird"
            ? FormattableString.Invariant($"""
                (SELECT LIST(x, '') FROM (SELECT LPAD('', 10000, 'long value ' || :i) x FROM RDB$TYPES a, RDB$TYPES b
                    ROWS {Math.Max(1, shape.ValueBytes / 10_000)}))
                """)
            : FormattableString.Invariant(
                $"repeat(md5({(engine == "postgresql" ? "i::text" : "seq")}), {Math.Max(1, shape.ValueBytes / 32)})");
        string row = $"{number}, DATE '2026-01-15', {value}{values}";
        return engine switch
        {
            "postgresql" => FormattableString.Invariant($"INSERT INTO t{table} SELECT {row} FROM generate_series(1, {shape.Rows}) i"),
            "mariadb" => FormattableString.Invariant($"INSERT INTO t{table} SELECT {row} FROM seq_1_to_{shape.Rows}"),
            _ => FormattableString.Invariant($"EXECUTE BLOCK AS DECLARE i INTEGER = 1; BEGIN WHILE (i <= {shape.Rows}) DO BEGIN ")
                + FormattableString.Invariant($"INSERT INTO t{table} VALUES ({row}); i = i + 1; END END")
        };
    }

    private static void Execute(StoreAddress at, IEnumerable<string> statements)
    {
        using DbConnection connection = Connect(at);
        connection.Open();
        foreach (string statement in statements)
        {
            using DbCommand command = connection.CreateCommand();
            command.CommandText = statement;
            command.CommandTimeout = 0;
            command.ExecuteNonQuery();
        }
    }

    private static DbConnection Connect(StoreAddress at)
    {
        ServerAddress server = at.Server!;
        string password = ServersBenchmark.Password(server);
        return at.Engine switch
        {
            "postgresql" => new Npgsql.NpgsqlConnection(new Npgsql.NpgsqlConnectionStringBuilder
            {
                Host = server.Host,
                Port = server.Port,
                Username = server.User,
                Password = password,
                Database = at.Path,
                Pooling = false
            }.ToString()),
            "mariadb" => new MySqlConnector.MySqlConnection(new MySqlConnector.MySqlConnectionStringBuilder
            {
                Server = server.Host,
                Port = (uint)server.Port,
                UserID = server.User,
                Password = password,
                Database = at.Path,
                Pooling = false
            }.ToString()),
            _ => new FbConnection(Firebird(at))
        };
    }

    private static string Firebird(StoreAddress at) => new FbConnectionStringBuilder
    {
        DataSource = at.Server!.Host,
        Port = at.Server.Port,
        UserID = at.Server.User,
        Password = ServersBenchmark.Password(at.Server),
        Database = at.Path,
        Charset = "UTF8",
        Pooling = false
    }.ToString();
}
