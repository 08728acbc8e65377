// MariaGuest.cs: lets one account into a copy. MariaDB lets accounts in, not databases: the account is unlocked, and given in the copy what
// it may do in the original, as rights go by a database's name. What else it may reach by that is told.
using System.Text.RegularExpressions;
using MySqlConnector;
using Transferra.Core.Machine;
using Transferra.Core.Records;

namespace Transferra.Stores.Mariadb;

internal static partial class MariaGuest
{
    private const string Locked = "locked", Free = "free", Rights = "rights";

    public static StoreGuest Found(MySqlConnection connection, string name, string account, string original)
    {
        List<string> hosts = MariaServer.List(connection, $"SELECT Host FROM mysql.user WHERE User = {MariaConnection.Literal(account)} "
            + "AND is_role = 'N' ORDER BY 1");
        if (hosts.Count == 0)
            throw new TransferraException($"the server has no account {account}", "Correct \"account\" in the kit's hop.");
        string[] locked = [.. hosts.Where(host => MariaServer.IsLocked(connection, account, host))];
        string[] rights = [.. hosts.SelectMany(host => Granted(connection, account, host)).Distinct(StringComparer.Ordinal)];
        return new StoreGuest(name, account, new Dictionary<string, string>
        {
            [Locked] = string.Join('\n', locked),
            [Free] = string.Join('\n', hosts.Except(locked)),
            [Rights] = name == original ? "" : string.Join('\n', rights.Select(grant => Elsewhere(grant, original, name)).OfType<string>()
                .Distinct())
        })
        {
            AlsoInto = [.. MariaServer.List(connection, "SELECT schema_name FROM information_schema.schemata WHERE schema_name NOT IN "
                + "('information_schema', 'performance_schema', 'mysql', 'sys') ORDER BY 1").Where(other => other != name
                && rights.Any(grant => Elsewhere(grant, other, other) is not null || On().Match(grant) is { Success: true } on
                    && on.Groups["database"].Value == "*" && !grant.StartsWith("GRANT USAGE ON", StringComparison.Ordinal)))]
        };
    }

    public static void LetIn(MySqlConnection connection, StoreGuest guest)
    {
        foreach (string right in Lines(guest, Rights)) MariaConnection.Execute(connection, right);
        foreach (string host in Lines(guest, Locked)) Turn(connection, guest.Account, host, isLocked: false);
    }

    // Rights to a copy go with its name.
    public static void PutOut(MySqlConnection connection, StoreGuest guest)
    {
        foreach (string host in Lines(guest, Locked)) Turn(connection, guest.Account, host, isLocked: true);
    }

    private static string[] Lines(StoreGuest guest, string what) => guest.Found[what].Split('\n', StringSplitOptions.RemoveEmptyEntries);

    private static void Turn(MySqlConnection connection, string account, string host, bool isLocked) => MariaConnection.Execute(connection,
        $"ALTER USER {MariaServer.Account(account, host)} ACCOUNT {(isLocked ? "LOCK" : "UNLOCK")}");

    // What an account is granted, also by a role that it has.
    private static IEnumerable<string> Granted(MySqlConnection connection, string account, string host)
    {
        string who = MariaServer.Account(account, host);
        var open = new Queue<string>([who]);
        var roles = new HashSet<string>(StringComparer.Ordinal);
        while (open.TryDequeue(out string? next))
            foreach (string grant in MariaServer.List(connection, $"SHOW GRANTS FOR {next}"))
                if (RoleGiven().Match(grant) is { Success: true } role)
                {
                    if (roles.Add(role.Groups[1].Value)) open.Enqueue(MariaConnection.Quote(role.Groups[1].Value));
                }
                else if (On().Match(grant) is { Success: true } on) yield return grant[..on.Groups["to"].Index] + who;
    }

    // A grant for a database as one for another; null when it is not for the first.
    private static string? Elsewhere(string grant, string from, string to)
    {
        if (On().Match(grant) is not { Success: true } on || on.Groups["database"] is not { Value: not "*" } database) return null;
        string pattern = database.Value[1..^1].Replace("``", "`", StringComparison.Ordinal);
        // Only where all of a database is meant is its name a pattern.
        bool fits = on.Groups["object"].Value == "*" ? Like(pattern, from) : pattern == from;
        return fits ? $"{grant[..database.Index]}{MariaConnection.Quote(to)}{grant[(database.Index + database.Length)..]}" : null;
    }

    private static bool Like(string pattern, string name)
    {
        var text = new System.Text.StringBuilder("^");
        for (int i = 0; i < pattern.Length; i++)
            text.Append(pattern[i] switch
            {
                '\\' when i + 1 < pattern.Length => Regex.Escape(pattern[++i].ToString()),
                '%' => ".*",
                '_' => ".",
                char letter => Regex.Escape(letter.ToString())
            });
        return Regex.IsMatch(name, text.Append('$').ToString(), RegexOptions.CultureInvariant, TimeSpan.FromSeconds(1));
    }

    [GeneratedRegex(@"^GRANT .+? ON (?:(?:PROCEDURE|FUNCTION|PACKAGE|PACKAGE BODY) )?"
        + @"(?<database>\*|`(?:[^`]|``)+`)\.(?<object>\*|`(?:[^`]|``)+`) TO (?<to>\S+)", RegexOptions.CultureInvariant)]
    private static partial Regex On();

    [GeneratedRegex(@"^GRANT `((?:[^`]|``)+)` TO ", RegexOptions.CultureInvariant)]
    private static partial Regex RoleGiven();
}
