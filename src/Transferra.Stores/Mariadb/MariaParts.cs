// MariaParts.cs: what a MariaDB database has beside tables that runs or shows something: routines, views, triggers, events, each as the
// server itself writes it out (SHOW CREATE ...), with the mode and character sets it was written for and who may run it.
// Why names without the database: the server writes it before every name in a view, and what is made again may stand in another one.
// Holds: (1) a view that the server itself cannot open is no part: it could not be made again; (2) in a database of a run no event starts.
using System.Globalization;
using System.Text;
using System.Text.RegularExpressions;
using MySqlConnector;
using Transferra.Core.Records;

namespace Transferra.Stores.Mariadb;

/// <summary>One of them.</summary>
/// <param name="Kind">function, procedure, package, package body, view, trigger or event.</param>
/// <param name="Name">Its name.</param>
/// <param name="Session">What is to be set before it is made.</param>
/// <param name="Statement">Makes it in the database that is in use; null when this user may not see its text.</param>
/// <param name="Rights">Who may run it, as statements.</param>
internal sealed record MariaPart(string Kind, string Name, string Session, string? Statement, IReadOnlyList<string> Rights)
{
    /// <summary>All that makes it, in one go.</summary>
    public string? Whole => Statement is null ? null : $"{Session}; {Statement}";

    /// <summary>Removes it.</summary>
    /// <param name="database">From where.</param>
    public string Drop(string database) =>
        $"DROP {Kind.ToUpperInvariant()} IF EXISTS {MariaConnection.Quote(database)}.{MariaConnection.Quote(Name)}";
}

/// <summary>Reads them.</summary>
/// <param name="connection">To the server.</param>
/// <param name="database">Which database.</param>
internal sealed partial class MariaParts(MySqlConnection connection, string database)
{
    private readonly string _schema = MariaConnection.Literal(database);

    // Of a database that a run named: events that would start are marked as another server's, and so do not.
    private const string Waits = "DISABLE ON SLAVE", Starts = "ENABLE";

    private static bool IsOfRun(string database) => database.StartsWith(StoreAddress.RunPrefix, StringComparison.Ordinal);

    /// <summary>All of them, those first that others need.</summary>
    public IReadOnlyList<MariaPart> All() => [.. Routines(), .. Views(), .. Triggers(), .. Events()];

    /// <summary>Views that the server itself cannot open, as what they show is gone.</summary>
    public IReadOnlyList<string> BrokenViews() => [.. ViewNames().Where(name => !Opens(name))];

    private List<string?[]> Rows(string sql)
    {
        using var command = new MySqlCommand(sql, connection);
        using MySqlDataReader reader = command.ExecuteReader();
        var rows = new List<string?[]>();
        while (reader.Read())
            rows.Add([.. Enumerable.Range(0, reader.FieldCount).Select(i => reader.IsDBNull(i) ? null
                : reader.GetValue(i) is byte[] bytes ? Encoding.UTF8.GetString(bytes)
                : Convert.ToString(reader.GetValue(i), CultureInfo.InvariantCulture))]);
        return rows;
    }

    private string Full(string name) => MariaConnection.Quote(database) + "." + MariaConnection.Quote(name);

    private string Here(string statement) => statement.Replace(MariaConnection.Quote(database) + ".", "", StringComparison.Ordinal);

    private static string Session(string? mode, string? client, string? order, string? zone = null) => "SET SESSION "
        + (mode is null ? "" : $"sql_mode = {MariaConnection.Literal(mode)}, ") + (zone is null ? "" : $"time_zone = "
        + $"{MariaConnection.Literal(zone)}, ") + $"character_set_client = {client}, collation_connection = {order}";

    private IEnumerable<MariaPart> Routines()
    {
        foreach (string?[] row in Rows("SELECT routine_name, routine_type FROM information_schema.routines WHERE routine_schema = "
            + $"{_schema} ORDER BY field(routine_type, 'FUNCTION', 'PROCEDURE', 'PACKAGE', 'PACKAGE BODY'), 1"))
        {
            string?[] made = Rows($"SHOW CREATE {row[1]} {Full(row[0]!)}")[0];
            yield return new MariaPart(row[1]!.ToLowerInvariant(), row[0]!, Session(made[1], made[3], made[4]), made[2] is { } text
                ? Here(text) : null, RightsOf(row[1]!, row[0]!));
        }
    }

    // The server takes away the rights to a routine with the routine.
    private IReadOnlyList<string> RightsOf(string kind, string name)
    {
        try
        {
            return [.. Rows("SELECT concat('GRANT ', replace(replace(Proc_priv, ',Grant', ''), 'Grant', 'USAGE'), ' ON ', Routine_type, "
                + "' ', "
                + $"{MariaConnection.Literal(MariaConnection.Quote(name))}, ' TO ', quote(User), '@', quote(Host), "
                + "if(find_in_set('Grant', Proc_priv), ' WITH GRANT OPTION', '')) FROM mysql.procs_priv WHERE Db = "
                + $"{_schema} AND Routine_name = {MariaConnection.Literal(name)} AND Routine_type = {MariaConnection.Literal(kind)} "
                + "ORDER BY User, Host").Select(row => row[0]!)];
        }
        catch (MySqlException) { return []; } // a hindrance says so before
    }

    private IEnumerable<string> ViewNames() =>
        Rows($"SELECT table_name FROM information_schema.views WHERE table_schema = {_schema} ORDER BY 1").Select(row => row[0]!);

    private bool Opens(string view)
    {
        try
        {
            Rows($"SHOW FIELDS FROM {Full(view)}");
            return true;
        }
        catch (MySqlException error) when (error.ErrorCode is not (MySqlErrorCode.TableAccessDenied or MySqlErrorCode.AccessDenied
            or MySqlErrorCode.DatabaseAccessDenied))
        { return false; }
    }

    private IEnumerable<MariaPart> Views() => ViewNames().Where(Opens).Select(name => (Name: name, Made: Rows("SHOW CREATE VIEW "
        + Full(name))[0])).Select(view => new MariaPart("view", view.Name, Session(null, view.Made[2], view.Made[3]),
            view.Made[1] is { } text ? Here(text) : null, []));

    private IEnumerable<MariaPart> Triggers() => Rows("SELECT trigger_name FROM information_schema.triggers WHERE event_object_schema = "
        + $"{_schema} ORDER BY event_object_table, action_timing, event_manipulation, action_order").Select(row => Trigger(row[0]!));

    /// <summary>A trigger.</summary>
    public MariaPart Trigger(string name)
    {
        string?[] made = Rows($"SHOW CREATE TRIGGER {Full(name)}")[0];
        return new MariaPart("trigger", name, Session(made[1], made[3], made[4]), made[2] is { } text ? Here(text) : null, []);
    }

    private IEnumerable<MariaPart> Events()
    {
        foreach (string?[] row in Rows($"SELECT event_name FROM information_schema.events WHERE event_schema = {_schema} ORDER BY 1"))
        {
            string?[] made = Rows($"SHOW CREATE EVENT {Full(row[0]!)}")[0];
            string? text = made[3] is { } written ? Here(written) : null;
            if (text is not null && IsOfRun(database)) text = State().Replace(text, state => state.Groups[1].Value
                + (state.Groups[2].Value == Waits ? Starts : state.Groups[2].Value), 1);
            yield return new MariaPart("event", row[0]!, Session(made[1], made[4], made[5], made[2]), text, []);
        }
    }

    /// <summary>The statement that makes a part in a database: where a run named it, an event waits that would start.</summary>
    public static string For(string whole, string kind, string target) => kind == "event" && IsOfRun(target)
        ? State().Replace(whole, state => state.Groups[1].Value + (state.Groups[2].Value == Starts ? Waits : state.Groups[2].Value), 1)
        : whole;

    [GeneratedRegex(@"(\bON COMPLETION (?:NOT )?PRESERVE )(ENABLE|DISABLE ON SLAVE|DISABLE)\b", RegexOptions.CultureInvariant)]
    private static partial Regex State();
}
