// PgScript.cs: how a PostgreSQL database is made again: the statements of all things it has (PgThings.cs), in order.
// Holds: (1) all schemas are in it; (2) what is not in the script is in NotCarried.
using Npgsql;
using Transferra.Core.Records;

namespace Transferra.Stores.Postgresql;

/// <param name="connection">In the store's snapshot.</param>
internal sealed class PgScript(NpgsqlConnection connection)
{
    private readonly PgThings _things = new(connection);

    public StoreScript Read() => InCatalog(() =>
    {
        PgThing[] all = [.. _things.All()];
        return new StoreScript(Of(PgPhase.Before), Of(PgPhase.After), Of(PgPhase.Rights))
        {
            Database = _things.List("SELECT format(' LC_COLLATE %L LC_CTYPE %L', datcollate, datctype) FROM pg_database WHERE datname = "
                + "current_database()")[0],
        };

        string[] Of(PgPhase phase) => [.. all.Where(thing => thing.Phase == phase).Select(thing => thing.Declaration.Text)];
    });

    /// <summary>All things, to be counted and compared.</summary>
    public IReadOnlyList<StoreDeclaration> Declarations() => InCatalog(() =>
        (StoreDeclaration[])[.. _things.All().Select(thing => thing.Declaration)]);

    /// <summary>What the script does not carry.</summary>
    public IReadOnlyList<string> NotCarried() => InCatalog(_things.NotMadeAgain);

    // With only the catalog in the path, the server writes every other name with its schema.
    private T InCatalog<T>(Func<T> read)
    {
        string path = (string)PgConnection.Scalar(connection, "SELECT current_setting('search_path')")!;
        PgConnection.Execute(connection, "SET LOCAL search_path = pg_catalog");
        try
        {
            return read();
        }
        finally
        {
            PgConnection.Execute(connection,
                $"SET LOCAL search_path = "
                    + string.Join(", ", path.Split(',', StringSplitOptions.TrimEntries | StringSplitOptions.RemoveEmptyEntries)
                        .DefaultIfEmpty("\"\"")));
        }
    }
}
