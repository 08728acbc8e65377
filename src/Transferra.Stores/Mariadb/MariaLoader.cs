// MariaLoader.cs: loads rows into tables of a MariaDB database by LOAD DATA from memory, over one connection.
// Why warnings are counted: rows that come from the client are loaded as if IGNORE were said, and what is refused or cut is a warning only.
// Holds: (1) what is not taken as it was sent is told.
using System.Globalization;
using MySqlConnector;
using Transferra.Core.Records;
using Transferra.Stores.Servers;

namespace Transferra.Stores.Mariadb;

/// <summary>Why rows were not taken.</summary>
internal sealed record MariaRefusal(FaultCode Code, string Reason);

/// <param name="connection">Of the database; without commits of its own.</param>
internal sealed class MariaLoader(MySqlConnection connection)
{
    // Bytes between commits: long transactions cost the server undo space, short ones a flush each.
    private const long CommitBytes = 64 << 20;

    private readonly LoadText _text = new();
    private long _uncommitted;

    // Columns that take values in another way than as text: bits as numbers, and what the server works out by itself not at all.
    private Dictionary<(string Table, string Column), string> _ofNote = [];

    /// <summary>Looks at columns of the tables that are there, which may take values in another way than as text.</summary>
    public void LookAtColumns()
    {
        using var command = new MySqlCommand("SELECT table_name, column_name, CASE WHEN extra LIKE '%GENERATED%' THEN 'generated' ELSE "
            + "'bit' END FROM information_schema.columns "
            + $"WHERE table_schema = {MariaConnection.Literal(connection.Database)} AND (data_type = 'bit' OR extra LIKE '%GENERATED%')",
                connection);
        using MySqlDataReader reader = command.ExecuteReader();
        while (reader.Read()) _ofNote[(reader.GetString(0), reader.GetString(1))] = reader.GetString(2);
    }

    /// <summary>A loader of the same tables over another connection.</summary>
    public MariaLoader Beside(MySqlConnection another) => new(another) { _ofNote = _ofNote };

    /// <summary>Makes what was loaded final.</summary>
    public void Commit()
    {
        MariaConnection.Execute(connection, "COMMIT");
        _uncommitted = 0;
    }

    /// <summary>Makes what was loaded final, where it is much.</summary>
    public void CommitMuch()
    {
        if (_uncommitted >= CommitBytes) Commit();
    }

    /// <summary>Loads rows into one table.</summary>
    /// <returns>What the server would not take, in its words; null when it took everything as it was sent.</returns>
    public MariaRefusal? Load(TableOutput output, ReadOnlySpan<int> rows)
    {
        int[] taken = [.. Enumerable.Range(0, output.Vectors.Count)
            .Where(i => _ofNote.GetValueOrDefault((output.Table.Name, output.Table.Columns[i].Name)) != "generated")];
        using Stream text = _text.Of(taken.Select(i => output.Vectors[i]), rows);
        var loader = new MySqlBulkLoader(connection)
        {
            TableName = MariaConnection.Quote(output.Table.Name),
            CharacterSet = "utf8mb4",
            FieldTerminator = "\t",
            LineTerminator = "\n",
            EscapeCharacter = '\\',
            Local = true,
            SourceStream = text,
            Timeout = 0,
        };
        foreach (ColumnShape column in taken.Select(i => output.Table.Columns[i]))
        {
            // Bytes that are no text travel as hexadecimal digits.
            bool isBinary = column.Type.Kind == FieldKind.Binary, isBit = _ofNote.ContainsKey((output.Table.Name, column.Name));
            string variable = FormattableString.Invariant($"@b{loader.Columns.Count}");
            loader.Columns.Add(isBinary || isBit ? variable : MariaConnection.Quote(column.Name));
            if (isBinary || isBit) loader.Expressions.Add($"{MariaConnection.Quote(column.Name)} = "
                + $"{(isBinary ? $"UNHEX({variable})" : $"CAST({variable} AS UNSIGNED)")}");
        }
        int loaded = loader.Load();
        _uncommitted += _text.Written;
        if (loaded == rows.Length && MariaConnection.Scalar(connection, "SELECT @@warning_count") == "0") return null;
        using var command = new MySqlCommand("SHOW WARNINGS", connection);
        using MySqlDataReader reader = command.ExecuteReader();
        bool any = false;
        while (reader.Read())
        {
            any = !IsOfGenerated(output.Table.Name, reader.GetString(0), reader.GetString(2));
            if (any) break;
        }
        if (!any && loaded == rows.Length) return null;
        if (!any)
            return new MariaRefusal(FaultCode.WrongKind, string.Create(CultureInfo.InvariantCulture, $"it took {loaded} of {rows.Length}"));
        if (reader.GetInt32(1) == (int)MySqlErrorCode.DuplicateKeyEntry) return new MariaRefusal(FaultCode.DuplicateKey,
            "a record with the same key is there already");
        // The server's words hold the value.
        return new MariaRefusal(FaultCode.WrongKind, output.Table.Columns.Any(column => column.IsPrivate)
            ? "it would cut or change one of its values" : reader.GetString(2));
    }

    // The server works out the generated columns by itself, and notes what it rounds there; nothing that was sent is rounded by that.
    private bool IsOfGenerated(string table, string level, string words) => level == "Note"
        && _ofNote.Any(column => column.Key.Table == table && column.Value == "generated" && words.Contains($"'{column.Key.Column}'",
            StringComparison.Ordinal));
}
