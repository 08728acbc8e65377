// SqliteSoundness.cs: the engine's own check of a store, without the part of it that takes longest where the indexes are proved to be as
// the records want them.
// How: the engine's short check looks at every page, link and constraint; what its long one adds, the comparison of records and indexes
// and of keys that may be there once, is proved by SqliteIndexProof.cs, table by table. Where that proves nothing, or the short check
// complains, the engine's long check has the word, of that table or of the whole store.
// Source: "Pragma statements supported by SQLite", integrity_check and quick_check.
// Holds: (1) complaints are the engine's own, and there are some whenever its long check has some; (2) a table that cannot be proved is
// checked by the engine.
using Microsoft.Data.Sqlite;
using Transferra.Core.Machine;
using Transferra.Core.Records;
using Transferra.Stores.Files;

namespace Transferra.Stores.Sqlite;

/// <param name="connection">Of the store, within a read transaction.</param>
/// <param name="pages">Of the store; null where only the engine knows what belongs to it.</param>
/// <param name="layouts">Of its tables.</param>
/// <param name="inquire">Puts a question to the engine.</param>
/// <param name="watch">Tells when the file is changed meanwhile; null where the engine's lock keeps others from it.</param>
internal sealed class SqliteSoundness(SqliteConnection connection, SqlitePageFile? pages, SqliteLayouts layouts,
    Func<string, QueryAnswer> inquire, FileWatch? watch)
{
    private const string LongCheck = "PRAGMA integrity_check(200)", ShortCheck = "PRAGMA quick_check(200)";

    // Look-ups come upon the same pages again and again; the engine's own 2 MB take half as long again. In KB, as it counts.
    private const string Cache = "PRAGMA cache_size = -8000";

    // The schema, which lies in a page of another form; it has next to nothing to look at.
    private const string Schema = "sqlite_schema";

    private sealed record Table(string Name, SqliteTableLayout? Layout, IReadOnlyList<SqliteIndexLayout>? Indexes);

    /// <summary>What the engine finds wrong; none when the store is sound.</summary>
    /// <exception cref="OperationCanceledException">It was to stop.</exception>
    public IReadOnlyList<string> Complaints(CancellationToken cancel)
    {
        cancel.ThrowIfCancellationRequested();
        if (pages is null || Tables() is not { } tables) return Engine(LongCheck, cancel);
        (List<string> left, IReadOnlyList<string> complaints) = Together.Do(() => NotProved(tables, cancel),
            () => Engine(ShortCheck, cancel));
        // What begins like a number is no name to the engine here.
        bool isWhole = complaints.Count > 0 || left.Any(name => name is "" or [>= '0' and <= '9' or '+' or '-', ..]);
        if (!isWhole) complaints = [.. left.SelectMany(name => Engine($"PRAGMA integrity_check({SqliteEngine.Literal(name)})", cancel))];
        watch?.RefuseIfChanged();
        if (!isWhole && complaints.Count == 0) return [];
        // Of a page that it has seen once the engine may complain no more.
        return Engine(LongCheck, cancel) is { Count: > 0 } all ? all : complaints;
    }

    // Null where the schema itself cannot be read, or is odd.
    private List<Table>? Tables()
    {
        try
        {
            Dictionary<string, List<SqliteIndexLayout>?> indexes = SqliteIndexes.All(inquire, pages!);
            string[] names = [.. inquire("SELECT name FROM sqlite_schema WHERE type = 'table' AND rootpage > 0").Rows
                .Select(row => row[0]!)];
            // An index of a table that is not there is one that would be passed over.
            if (indexes.Keys.Except(names, StringComparer.OrdinalIgnoreCase).Any()) return null;
            return [.. names.Select(name => new Table(name, layouts.Of(new TableShape(name, [], [], [])),
                indexes.TryGetValue(name, out List<SqliteIndexLayout>? known) ? known : []))];
        }
        catch (TransferraException) { return null; }
    }

    private List<string> NotProved(IReadOnlyList<Table> tables, CancellationToken cancel) =>
        [Schema, .. tables.Where(table => !IsProved(table, cancel)).Select(table => table.Name)];

    // Of a table without an index the long check looks at no more than the short one.
    private bool IsProved(Table table, CancellationToken cancel) => table is { Layout: { } layout, Indexes: { } indexes }
        && (indexes.Count == 0 || new SqliteIndexProof(pages!.Again(), layout, indexes, cancel).Holds());

    private IReadOnlyList<string> Engine(string check, CancellationToken cancel)
    {
        const int interrupted = 9;
        var complaints = new List<string>();
        try
        {
            // Relations are no matter of damage; a check looks at them record by record. What the engine tells of pages before it gives
            // up is kept.
            using CancellationTokenRegistration stop = cancel.Register(() => SQLitePCL.raw.sqlite3_interrupt(connection.Handle!));
            cancel.ThrowIfCancellationRequested();
            SqliteEngine.Execute(connection, Cache);
            using SqliteCommand command = connection.CreateCommand();
#pragma warning disable CA2100 // words of our own, and a name as a literal
            command.CommandText = check;
#pragma warning restore CA2100
            using SqliteDataReader reader = command.ExecuteReader();
            while (reader.Read())
                if (reader.GetString(0) is not "ok" and var line) complaints.Add(line);
        }
        catch (SqliteException error) when (error.SqliteErrorCode == interrupted && cancel.IsCancellationRequested)
        {
            throw new OperationCanceledException(cancel);
        }
        catch (SqliteException error)
        {
            complaints.Add($"the engine's check was interrupted: {error.Message}");
        }
        return complaints;
    }
}
