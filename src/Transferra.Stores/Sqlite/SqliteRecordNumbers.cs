// SqliteRecordNumbers.cs: the numbers by which a SQLite file itself knows the records of a table (rowid), where no column shows them. A
// table that is filled anew would give out others, and what keeps them elsewhere would point to other records.
// Source: SQLite documentation, "Rowid Tables".
// Holds: (1) a record that the new table has from the old one keeps its number; (2) where that cannot be told, numbers are given out anew,
// and that is named when any would differ.
using System.Globalization;
using Microsoft.Data.Sqlite;
using Transferra.Core.Records;

namespace Transferra.Stores.Sqlite;

/// <param name="connection">To the copy.</param>
internal sealed class SqliteRecordNumbers(SqliteConnection connection)
{
    // A column of ours, beside those that tell the record by their own names.
    private const string Number = "\"" + StoreAddress.RunPrefix + "number\"";

    private static readonly string[] Words = ["rowid", "_rowid_", "oid"];

    private static string Keeper(string table) => StoreAddress.RunPrefix + "numbers-" + table;

    private long Count(string sql)
    {
        using SqliteCommand command = connection.CreateCommand();
        command.CommandText = "SELECT " + sql;
        return command.ExecuteScalar() is long count ? count : 0;
    }

    private void Do(string sql) => SqliteEngine.Execute(connection, sql);

    private List<string> ColumnsOf(string table)
    {
        using SqliteCommand command = connection.CreateCommand();
        command.CommandText = $"SELECT name FROM pragma_table_xinfo({SqliteEngine.Literal(table)})";
        using SqliteDataReader reader = command.ExecuteReader();
        var names = new List<string>();
        while (reader.Read()) names.Add(reader.GetString(0));
        return names;
    }

    // The word by which the engine gives it; a column of that name hides it.
    private string? WordFor(string table)
    {
        List<string> columns = ColumnsOf(table);
        return Words.FirstOrDefault(word => !columns.Contains(word, StringComparer.OrdinalIgnoreCase));
    }

    /// <summary>Whether the old records have to be in the copy for their numbers to be kept.</summary>
    /// <param name="table">What is done to it.</param>
    /// <param name="name">As the file spells it.</param>
    public bool NeedsRecords(RevisedTable table, string name) => !table.KeepsOtherColumns && HasOwn(name);

    /// <summary>Keeps those of a table within the file, before its records are taken out.</summary>
    /// <param name="table">What is done to it; its columns have their new names already.</param>
    /// <param name="name">As the file spells it.</param>
    /// <returns>Why they cannot be kept; null when they are, or need not be.</returns>
    public string? Keep(RevisedTable table, string name)
    {
        string quoted = SqliteEngine.Quote(name);
        if (!NeedsRecords(table, name) || Count($"count(*) FROM {quoted}") == 0) return null;
        string[] same = [.. table.Columns.Where(column => column is { From: not null, IsSame: true }).Select(column => column.Column.Name)],
            tells = table.Shape.Key.Count > 0 ? [.. table.Shape.Key] : same;
        if (WordFor(name) is not { } word) return GivenAnew(name, "columns have all the names that the engine has for them");
        bool canTell = tells.Length > 0 && !(table.Shape.Key.Count > 0 && table.HasOtherKey)
            && tells.All(column => same.Contains(column, StringComparer.OrdinalIgnoreCase));
        if (canTell)
            Do($"CREATE TABLE {SqliteEngine.Quote(Keeper(name))} AS SELECT {word} AS {Number}, "
                + $"{string.Join(", ", tells.Select(SqliteEngine.Quote))} FROM {quoted}");
        // Without gaps they tell no more than how many there are.
        return canTell || Count($"max({word}) = count(*) AND min({word}) = 1 FROM {quoted}") == 1 ? null
            : GivenAnew(name, "its key becomes another one");
    }

    private static string GivenAnew(string table, string why) =>
        $"the numbers by which the file itself knows the records of {table} are given out anew: {why}";

    // Not where a column is the number, and not where the table has none.
    private bool HasOwn(string name)
    {
        string literal = SqliteEngine.Literal(name);
        if (Count($"count(*) FROM pragma_table_list({literal}) WHERE schema = 'main' AND wr = 0 AND type = 'table'") == 0) return false;
        return Count($"count(*) FROM pragma_table_xinfo({literal}) WHERE pk > 0") != 1
            || Count($"count(*) FROM pragma_table_xinfo({literal}) WHERE pk = 1 AND upper(type) = 'INTEGER'") == 0
            || Count($"count(*) FROM pragma_index_list({literal}) WHERE origin = 'pk'") > 0;
    }

    /// <summary>Gives the records of a table that is filled the numbers they had.</summary>
    /// <param name="table">The table.</param>
    /// <returns>What could not be given, in words; null when all was.</returns>
    public string? Give(TableShape table)
    {
        List<string> kept = ColumnsOf(Keeper(table.Name));
        if (kept.Count == 0 || WordFor(table.Name) is not { } word) return null;
        try
        {
            return Give(table, [.. kept.Skip(1).Select(SqliteEngine.Quote)], word);
        }
        finally
        {
            Do("DROP TABLE IF EXISTS temp.transferra_numbers");
            Do($"DROP TABLE {SqliteEngine.Quote(Keeper(table.Name))}");
        }
    }

    private string? Give(TableShape table, string[] tells, string word)
    {
        string keeper = SqliteEngine.Quote(Keeper(table.Name)), quoted = SqliteEngine.Quote(table.Name);
        string equal = string.Join(" AND ", tells.Select(column => $"t.{column} IS n.{column}"));
        Do(table.Key.Count > 0
            ? $"CREATE TEMP TABLE transferra_numbers AS SELECT t.{word} AS cur, n.{Number} AS want FROM {keeper} n CROSS JOIN {quoted} t "
                + "ON " + equal
            : $"CREATE TEMP TABLE transferra_numbers AS SELECT t.cur, n.want FROM (SELECT {Number} AS want, *, row_number() OVER (ORDER BY "
                + $"{Number}) AS place FROM {keeper}) n JOIN (SELECT {word} AS cur, *, row_number() OVER (ORDER BY {word}) AS place FROM "
                + $"{quoted}) t ON t.place = n.place WHERE {equal}");
        Do("CREATE UNIQUE INDEX temp.transferra_numbers_cur ON transferra_numbers (cur)");
        if (table.Key.Count == 0 && (Count("count(*) FROM temp.transferra_numbers") != Count($"count(*) FROM {keeper}")
            || Count($"count(*) FROM {quoted}") != Count($"count(*) FROM {keeper}")))
            return GivenAnew(table.Name, "it has no key, and its records are no longer the same");
        if (Count("count(*) FROM temp.transferra_numbers WHERE cur <> want") == 0) return null;
        // All go behind the highest first, so that no two of them meet on the way.
        long past = Count($"max((SELECT max(want) FROM temp.transferra_numbers), (SELECT max({word}) FROM {quoted}), 0) + 1");
        if (past is <= 0 or > long.MaxValue / 4) return GivenAnew(table.Name, "they are as high as the engine can count");
        string by = past.ToString(CultureInfo.InvariantCulture);
        Do($"UPDATE {quoted} SET {word} = {word} + {by}");
        Do($"UPDATE {quoted} SET {word} = (SELECT want FROM temp.transferra_numbers m WHERE m.cur = {quoted}.{word} - {by}) "
            + $"WHERE {word} - {by} IN (SELECT cur FROM temp.transferra_numbers)");
        return null;
    }
}
