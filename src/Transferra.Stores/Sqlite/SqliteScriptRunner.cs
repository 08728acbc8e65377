// SqliteScriptRunner.cs: runs scripts in a copied SQLite file, as the vendor's own program would: with the engine's usual settings.
// Why without flushing: until Complete the file is a copy that is thrown away when anything fails.
using Microsoft.Data.Sqlite;
using Transferra.Core.Machine;
using Transferra.Core.Records;

namespace Transferra.Stores.Sqlite;

internal sealed class SqliteScriptRunner : IScriptRunner
{
    private readonly string _path;
    private readonly SqliteConnection _connection;

    /// <param name="copy">The file.</param>
    public SqliteScriptRunner(StoreAddress copy)
    {
        _path = copy.Path;
        _connection = SqliteEngine.Open(copy.Path, SqliteOpenMode.ReadWrite);
        // The engine's own default; a script that wants them on says so.
        SqliteEngine.Execute(_connection, "PRAGMA foreign_keys = OFF; PRAGMA synchronous = OFF");
    }

    /// <inheritdoc/>
    public long Run(string statement, bool mayFail) => Guarded(() =>
    {
        using SqliteCommand command = _connection.CreateCommand();
        command.CommandText = statement;
        command.CommandTimeout = 0;
        return Math.Max(0, command.ExecuteNonQuery());
    });

    /// <inheritdoc/>
    public void Begin() => Run("BEGIN", mayFail: false);

    /// <inheritdoc/>
    public void Commit() => Run("COMMIT", mayFail: false);

    /// <inheritdoc/>
    public void Complete()
    {
        Guarded(() =>
        {
            using SqliteCommand command = _connection.CreateCommand();
            command.CommandText = "PRAGMA wal_checkpoint(TRUNCATE)";
            command.ExecuteNonQuery();
            return 0;
        });
        _connection.Dispose();
        new DiskVolume().FlushFile(_path);
    }

    private static long Guarded(Func<long> run)
    {
        try { return run(); }
        catch (SqliteException error)
        {
            throw new StatementRefusedException(error.SqliteExtendedErrorCode.ToString(System.Globalization.CultureInfo.InvariantCulture),
                error.Message, error);
        }
    }

    public void Dispose() => _connection.Dispose();
}
