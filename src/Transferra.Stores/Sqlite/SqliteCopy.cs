// SqliteCopy.cs: a copy of a SQLite file that others are working in, by the engine's own means (its online backup interface): page for
// page, of one moment.
using Microsoft.Data.Sqlite;
using Transferra.Core.Machine;

namespace Transferra.Stores.Sqlite;

internal static class SqliteCopy
{
    /// <summary>Copies a file with the changes that wait beside it.</summary>
    /// <param name="from">The file.</param>
    /// <param name="to">Must not be there.</param>
    public static void OfOneInUse(string from, string to)
    {
        if (Path.Exists(to)) throw new IOException($"{to} is there already");
        try
        {
            using (var source = new SqliteConnection(new SqliteConnectionStringBuilder
            {
                DataSource = from,
                Mode = SqliteOpenMode.ReadOnly,
                Pooling = false,
                DefaultTimeout = 1
            }.ToString()))
            using (var target = new SqliteConnection(new SqliteConnectionStringBuilder { DataSource = to, Pooling = false }.ToString()))
            {
                source.Open();
                target.Open();
                SqliteEngine.InAMoment(() => source.BackupDatabase(target));
            }
            new DiskVolume().FlushFile(to);
        }
        catch (SqliteException error)
        {
            throw new TransferraException($"the store {from} cannot be copied while it is in use: {error.Message}",
                "Close the old program on all workstations, then try again.", error);
        }
    }
}
