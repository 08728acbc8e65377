// PgScriptRunner.cs: runs scripts in a copied PostgreSQL database, each statement as it stands.
using Npgsql;
using Transferra.Core.Records;

namespace Transferra.Stores.Postgresql;

internal sealed class PgScriptRunner : IScriptRunner
{
    private readonly NpgsqlConnection _connection;
    private readonly uint _last; // objects with higher numbers were made by the scripts
    private bool _isWithin;

    /// <param name="copy">The database.</param>
    public PgScriptRunner(StoreAddress copy)
    {
        _connection = PgConnection.Open(copy.Server!, copy.Path);
        // Until Complete the database is a copy that is thrown away when anything fails.
        PgConnection.Execute(_connection, "RESET ALL");
        PgConnection.Execute(_connection, "SET synchronous_commit = off");
        _last = Convert.ToUInt32(PgConnection.Scalar(_connection, "SELECT max(oid)::bigint FROM pg_class"),
            System.Globalization.CultureInfo.InvariantCulture);
    }

    /// <inheritdoc/>
    public long Run(string statement, bool mayFail)
    {
        bool isHeld = mayFail && _isWithin;
        if (isHeld) Send("SAVEPOINT transferra_statement");
        try
        {
            long rows = Send(statement);
            if (isHeld) Send("RELEASE transferra_statement");
            return rows;
        }
        catch (StatementRefusedException) when (isHeld)
        {
            Send("ROLLBACK TO transferra_statement");
            throw;
        }
    }

    // In a batch of one the driver sends it as it stands, whatever semicolons and colons are in it.
    private long Send(string statement)
    {
        try
        {
            using var batch = new NpgsqlBatch(_connection) { Timeout = 0 };
            batch.BatchCommands.Add(new NpgsqlBatchCommand(statement));
            using NpgsqlDataReader reader = batch.ExecuteReader();
            do
            {
                while (reader.Read()) { /* what a question answers is nobody's here */ }
            }
            while (reader.NextResult());
            return Math.Max(0, reader.RecordsAffected);
        }
        catch (PostgresException error)
        {
            throw new StatementRefusedException(error.SqlState, error.MessageText
                + (error.Detail is { Length: > 0 } detail && error.SqlState[..2] != "23" ? $" ({detail})" : ""), error);
        }
        catch (Exception error) when (error is NpgsqlException or InvalidOperationException or NotSupportedException)
        {
            throw new StatementRefusedException("", error.Message, error);
        }
    }

    /// <inheritdoc/>
    public void Begin()
    {
        Send("BEGIN");
        _isWithin = true;
    }

    /// <inheritdoc/>
    public void Commit()
    {
        _isWithin = false;
        Send("COMMIT");
    }

    /// <inheritdoc/>
    public void Complete()
    {
        Send("RESET ALL");
        foreach (string give in GivingToOwner()) Send(give);
        Send("ANALYZE");
        // The last flush of the log has all before it on the disk.
        Send("SET synchronous_commit = on");
        Send("SELECT txid_current()");
    }

    // Who has the other tables can use those that are new.
    private List<string> GivingToOwner()
    {
        using var command = new NpgsqlCommand($"""
            WITH old AS (SELECT c.relowner FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE {PgThings.Ours}
                AND c.relkind IN ('r', 'p') AND c.oid <= {_last} GROUP BY 1 ORDER BY count(*) DESC LIMIT 1)
            SELECT format('ALTER %s %I.%I OWNER TO %I', CASE c.relkind WHEN 'v' THEN 'VIEW' WHEN 'm' THEN 'MATERIALIZED VIEW'
                WHEN 'S' THEN 'SEQUENCE' ELSE 'TABLE' END, n.nspname, c.relname, pg_get_userbyid(old.relowner))
              FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace, old WHERE {PgThings.Ours} AND c.oid > {_last}
                AND c.relkind IN ('r', 'p', 'v', 'm', 'S') AND c.relowner <> old.relowner AND NOT EXISTS (SELECT 1 FROM pg_depend d
                  WHERE d.objid = c.oid AND d.deptype IN ('a', 'i') AND c.relkind = 'S')
            """, _connection);
        using NpgsqlDataReader reader = command.ExecuteReader();
        var statements = new List<string>();
        while (reader.Read()) statements.Add(reader.GetString(0));
        return statements;
    }

    public void Dispose() => _connection.Dispose();
}
