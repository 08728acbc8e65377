using System.Data.Common;
using Microsoft.Data.Sqlite;
using Transferra.Core.Records;
using Transferra.Tests;

namespace Transferra.Stores.Tests;

/// <summary>Changes single records of a store of any engine by its own SQL.</summary>
internal static class Planting
{
    public static object?[] With(object?[] row, int column, object? value)
    {
        object?[] copy = [.. row];
        copy[column] = value;
        return copy;
    }

    private static DbConnection Open(StoreAddress store)
    {
        if (store.Engine != "sqlite") return TestServers.Connect(store);
        var connection = new SqliteConnection(new SqliteConnectionStringBuilder { DataSource = store.Path, Pooling = false }.ToString());
        connection.Open();
        return connection;
    }

    /// <summary>Runs statements, all or none.</summary>
    public static void Run(StoreAddress store, IEnumerable<string> statements)
    {
        using DbConnection connection = Open(store);
        using DbTransaction all = connection.BeginTransaction();
        foreach (string statement in statements)
        {
            using DbCommand command = connection.CreateCommand();
            command.Transaction = all;
#pragma warning disable CA2100 // statements of tests
            command.CommandText = statement;
#pragma warning restore CA2100
            command.ExecuteNonQuery();
        }
        all.Commit();
    }
}
