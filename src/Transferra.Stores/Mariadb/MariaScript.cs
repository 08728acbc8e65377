// MariaScript.cs: everything a MariaDB database has beside its rows, as the server itself writes it out (SHOW CREATE ...).
// Why names without the database: the server writes it before every name in a view, and what is made again may be called otherwise.
// Holds: (1) each routine, trigger and event is made in the mode it was written for; (2) what is not in the script is in NotCarried.
using System.Globalization;
using System.Text.RegularExpressions;
using MySqlConnector;
using Transferra.Core.Records;
using Transferra.Stores.Servers;

namespace Transferra.Stores.Mariadb;

/// <param name="connection">In the store's snapshot.</param>
/// <param name="database">Which database.</param>
internal sealed partial class MariaScript(MySqlConnection connection, string database)
{
    /// <summary>Stands in rights for the database they are for.</summary>
    public const string Database = "{database}";

    private readonly string _schema = MariaConnection.Literal(database);
    private readonly IReadOnlyList<MariaPart> _parts = new MariaParts(connection, database).All();

    public StoreScript Read() => new([.. Tables()], [.. After().Select(found => found.Statement).OfType<string>()], [.. Rights()])
    {
        Database = Rows("SELECT concat(' CHARACTER SET ', default_character_set_name, ' COLLATE ', default_collation_name) FROM "
            + $"information_schema.schemata WHERE schema_name = {_schema}").Single()[0]!,
    };

    private List<string?[]> Rows(string sql)
    {
        using var command = new MySqlCommand(sql, connection);
        using MySqlDataReader reader = command.ExecuteReader();
        var rows = new List<string?[]>();
        while (reader.Read())
            rows.Add([.. Enumerable.Range(0, reader.FieldCount)
                .Select(i => reader.IsDBNull(i) ? null : reader.GetValue(i) is byte[] bytes
                ? System.Text.Encoding.UTF8.GetString(bytes) : Convert.ToString(reader.GetValue(i), CultureInfo.InvariantCulture))]);
        return rows;
    }

    private IEnumerable<string> Named(string sql) => Rows(sql).Select(row => row[0]!);

    private string Here(string statement) => statement.Replace(MariaConnection.Quote(database) + ".", "", StringComparison.Ordinal);

    private IEnumerable<string> Tables() =>
    [
        .. Named($"SELECT table_name FROM information_schema.tables WHERE table_schema = {_schema} AND table_type = 'SEQUENCE' ORDER BY 1")
            .Select(name => Here(Rows($"SHOW CREATE SEQUENCE {Full(name)}")[0][1]!)),
        .. Named($"SELECT table_name FROM information_schema.tables WHERE table_schema = {_schema} AND table_type IN ('BASE TABLE', "
            + "'SYSTEM VERSIONED') ORDER BY 1").Select(name => Here(Rows($"SHOW CREATE TABLE {Full(name)}")[0][1]!)),
    ];

    private string Full(string name) => MariaConnection.Quote(database) + "." + MariaConnection.Quote(name);

    private IEnumerable<(string What, string? Statement)> After()
    {
        foreach (string name in Named($"SELECT table_name FROM information_schema.tables WHERE table_schema = {_schema} AND table_type = "
            + "'SEQUENCE' ORDER BY 1"))
            yield return ("sequence " + name,
                $"ALTER SEQUENCE {MariaConnection.Quote(name)} RESTART {Rows($"SELECT next_not_cached_value FROM {Full(name)}")[0][0]}");
        foreach (MariaPart part in _parts) yield return ($"{part.Kind} {part.Name}", part.Whole);
    }

    private IEnumerable<string> Rights() =>
    [
        .. Named($"SELECT concat('GRANT ', group_concat(privilege_type ORDER BY privilege_type SEPARATOR ', '), ' ON {Database}.* TO ', "
            + "grantee, CASE WHEN max(is_grantable) = 'YES' THEN ' WITH GRANT OPTION' ELSE '' END) FROM "
            + "information_schema.schema_privileges "
            + $"WHERE replace(table_schema, char(92), '') = {_schema} GROUP BY grantee ORDER BY 1"),
        .. Named($"SELECT concat('GRANT ', group_concat(privilege_type ORDER BY privilege_type SEPARATOR ', '), ' ON {Database}.`', "
            + "replace(table_name, '`', '``'), '` TO ', grantee, CASE WHEN max(is_grantable) = 'YES' THEN ' WITH GRANT OPTION' ELSE '' "
            + "END) FROM information_schema.table_privileges "
            + $"WHERE table_schema = {_schema} GROUP BY grantee, table_name ORDER BY 1"),
        .. Named($"SELECT concat('GRANT ', privilege_type, ' (`', replace(column_name, '`', '``'), '`) ON {Database}.`', "
            + "replace(table_name, '`', '``'), '` TO ', grantee) FROM information_schema.column_privileges WHERE table_schema = "
            + $"{_schema} ORDER BY 1"),
        .. _parts.SelectMany(part => part.Rights.Select(right => right.Replace($" {part.Kind.ToUpperInvariant()} `",
            $" {part.Kind.ToUpperInvariant()} {Database}.`", StringComparison.Ordinal))),
    ];

    /// <summary>What the script does not carry.</summary>
    public IReadOnlyList<string> NotCarried()
    {
        var lost = new List<string>();
        lost.AddRange(After().Where(found => found.Statement is null).Select(found => $"the {found.What}: this user may not see its text"));
        lost.AddRange(new MariaParts(connection, database).BrokenViews().Select(view => $"the view {view}: the server cannot open it"));
        lost.AddRange(Named("SELECT concat('the past of the records of ', table_name, ', which the server keeps') FROM "
            + $"information_schema.tables WHERE table_schema = {_schema} AND table_type = 'SYSTEM VERSIONED' ORDER BY 1"));
        try
        {
            Rows("SELECT 1 FROM mysql.db LIMIT 1");
        }
        catch (MySqlException)
        {
            lost.Add("the rights of other users: this user may not see them");
        }
        return lost;
    }

    /// <summary>Runs statements of a script in a database, in rounds.</summary>
    /// <param name="connection">In that database.</param>
    /// <param name="statements">The statements.</param>
    /// <param name="remarks">Receives what was made otherwise than it was.</param>
    /// <returns>What could not be made; what is there already counts as made.</returns>
    public static IReadOnlyList<(string Statement, string Why)> Run(MySqlConnection connection, IReadOnlyList<string> statements,
        List<string> remarks) =>
        Rounds.Run(statements, statement =>
    {
        string? refused = TryRun(connection, statement);
        if (refused is null || !Definer().IsMatch(statement)) return refused;
        // Whoever made it may not be there, or be somebody this user may not act for.
        if (TryRun(connection, Definer().Replace(statement, " ", 1)) is not null) return refused;
        remarks.Add($"{Rounds.Shown(statement)}: it now belongs to the user who restored it: {refused}");
        return null;
    });

    /// <summary>Runs a statement; null, also when what it makes is there already, or why the server refused it.</summary>
    internal static string? TryRun(MySqlConnection connection, string statement)
    {
        try
        {
            MariaConnection.Execute(connection, statement);
            return null;
        }
        catch (MySqlException error)
        {
            return error.ErrorCode is MySqlErrorCode.TableExists or MySqlErrorCode.StoredProcedureAlreadyExists
                or MySqlErrorCode.TriggerAlreadyExists
                or MySqlErrorCode.EventAlreadyExists ? null : error.Message;
        }
    }

    [GeneratedRegex(@" DEFINER\s*=\s*(`([^`]|``)*`|[^\s@]+)@(`([^`]|``)*`|\S+) ", RegexOptions.CultureInvariant)]
    private static partial Regex Definer();
}
