// MariaScriptRunner.cs: runs scripts in a copied MariaDB database, in the server's own mode and not in the strict one of our sessions.
using System.Globalization;
using MySqlConnector;
using Transferra.Core.Records;

namespace Transferra.Stores.Mariadb;

internal sealed class MariaScriptRunner : IScriptRunner
{
    private readonly MySqlConnection _connection;

    /// <param name="copy">The database.</param>
    public MariaScriptRunner(StoreAddress copy)
    {
        _connection = MariaConnection.Open(copy.Server!, copy.Path, loads: true);
        MariaConnection.Execute(_connection, "SET SESSION sql_mode = @@GLOBAL.sql_mode, time_zone = @@GLOBAL.time_zone");
    }

    /// <inheritdoc/>
    public long Run(string statement, bool mayFail)
    {
        try
        {
            using var command = new MySqlCommand(statement, _connection) { CommandTimeout = 0 };
            return Math.Max(0, command.ExecuteNonQuery());
        }
        catch (MySqlException error)
        {
            throw new StatementRefusedException(error.Number.ToString(CultureInfo.InvariantCulture), error.Message, error);
        }
    }

    /// <inheritdoc/>
    public void Begin() => Run("START TRANSACTION", mayFail: false);

    /// <inheritdoc/>
    public void Commit() => Run("COMMIT", mayFail: false);

    /// <inheritdoc/>
    public void Complete() => Run("FLUSH TABLES", mayFail: false);

    public void Dispose() => _connection.Dispose();
}
