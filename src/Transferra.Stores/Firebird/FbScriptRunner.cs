// FbScriptRunner.cs: runs scripts in a copied Firebird database. What a statement declares can be used only when it is final, so each is
// made final by itself, as the engine's own client does with declarations.
using System.Globalization;
using FirebirdSql.Data.FirebirdClient;
using Transferra.Core.Machine;
using Transferra.Core.Records;

namespace Transferra.Stores.Firebird;

internal sealed class FbScriptRunner(StoreAddress copy) : IScriptRunner
{
    private readonly FbConnection _connection = FbLink.Open(copy);
    private FbTransaction? _transaction;

    /// <inheritdoc/>
    public long Run(string statement, bool mayFail)
    {
        try
        {
            // Its own client makes final what was done so far; here it is final already, or is made so at the end of the transaction.
            if (statement.Split((char[]?)null, StringSplitOptions.RemoveEmptyEntries) is [var word, ..]
                && word.Equals("COMMIT", StringComparison.OrdinalIgnoreCase)) return Committed();
            using var command = new FbCommand(statement, _connection, _transaction) { CommandTimeout = 0 };
            return Math.Max(0, command.ExecuteNonQuery());
        }
        catch (FbException error)
        {
            throw new StatementRefusedException(error.ErrorCode.ToString(CultureInfo.InvariantCulture), FbLink.FirstLine(error), error);
        }
    }

    private long Committed()
    {
        if (_transaction is null) return 0;
        Commit();
        Begin();
        return 0;
    }

    /// <inheritdoc/>
    public void Begin() => _transaction = _connection.BeginTransaction();

    /// <inheritdoc/>
    public void Commit()
    {
        try
        {
            _transaction?.Commit();
            _transaction?.Dispose();
            _transaction = null;
        }
        catch (FbException error)
        {
            throw new StatementRefusedException(error.ErrorCode.ToString(CultureInfo.InvariantCulture), FbLink.FirstLine(error), error);
        }
    }

    /// <inheritdoc/>
    public void Complete()
    {
        _connection.Dispose();
        if (File.Exists(copy.Path)) new DiskVolume().FlushFile(copy.Path);
    }

    public void Dispose()
    {
        _transaction?.Dispose();
        _connection.Dispose();
    }
}
