// PgGuest.cs: lets one account into a database that takes nobody else: its right to connect, and the limit that shuts the others out.
// Why both: a limit of 0 holds for all but superusers, also for whoever may connect; without it, the right decides.
using System.Globalization;
using Npgsql;
using Transferra.Core.Machine;
using Transferra.Core.Records;

namespace Transferra.Stores.Postgresql;

internal static class PgGuest
{
    private const string Database = "oid", Limit = "limit", Entitled = "entitled", WithOption = "with-option";

    public static StoreGuest Found(NpgsqlConnection connection, string name, string account)
    {
        if (PgConnection.Scalar(connection, "SELECT 1 FROM pg_roles WHERE rolname = $1 AND rolcanlogin", account) is null)
            throw new TransferraException($"the server has no account {account} that can log in", "Correct \"account\" in the kit's hop.");
        string oid = Convert.ToString(PgConnection.Scalar(connection, "SELECT oid::bigint FROM pg_database WHERE datname = $1", name)
            ?? throw new TransferraException($"there is no database {name}", "Find out who removed it."), CultureInfo.InvariantCulture)!;
        List<(string Role, bool Grantable)> entitled = PgServer.GranteesOf(connection, oid);
        return new StoreGuest(name, account, new Dictionary<string, string>
        {
            [Database] = oid,
            [Limit] = Convert.ToString(PgConnection.Scalar(connection, "SELECT datconnlimit FROM pg_database WHERE oid = $1::oid", oid),
                CultureInfo.InvariantCulture)!,
            [Entitled] = Listed(entitled.Select(one => one.Role)),
            [WithOption] = Listed(entitled.Where(one => one.Grantable).Select(one => one.Role)),
        });
    }

    public static void LetIn(NpgsqlConnection connection, StoreGuest guest)
    {
        if (Named(connection, guest) is not { } name) return;
        Together(connection, $"{guest.Account} cannot be let into {guest.Store}",
            [.. Roles(connection, guest).Where(role => role.Role != guest.Account).Select(role => Revoked(name, role.Role)),
                $"GRANT CONNECT ON DATABASE {name} TO {PgConnection.Quote(guest.Account)}",
                $"ALTER DATABASE {name} CONNECTION LIMIT -1"]);
    }

    public static void PutOut(NpgsqlConnection connection, StoreGuest guest)
    {
        if (Named(connection, guest) is not { } name) return;
        string[] entitled = Lines(guest.Found[Entitled]), withOption = Lines(guest.Found[WithOption]);
        bool isOwner = PgConnection.Scalar(connection, "SELECT 1 FROM pg_database WHERE oid = $1::oid AND pg_get_userbyid(datdba) = $2",
            guest.Found[Database], guest.Account) is not null;
        Together(connection, $"{guest.Account} cannot be put out of {guest.Store}",
            [$"ALTER DATABASE {name} CONNECTION LIMIT {guest.Found[Limit]}",
                .. isOwner || entitled.Contains(guest.Account) ? [] : (string[])[Revoked(name, guest.Account)],
                .. entitled.Select(role => $"GRANT CONNECT ON DATABASE {name} TO {Said(role)}"
                    + (withOption.Contains(role) ? " WITH GRANT OPTION" : ""))]);
    }

    // The database may have another name by now; its number stays.
    private static string? Named(NpgsqlConnection connection, StoreGuest guest) => (string?)PgConnection.Scalar(connection,
        "SELECT datname::text FROM pg_database WHERE oid = $1::oid", guest.Found[Database]) is { } name ? PgConnection.Quote(name) : null;

    // Who may connect now; "" stands for everybody.
    private static List<(string Role, bool Grantable)> Roles(NpgsqlConnection connection, StoreGuest guest) =>
        PgServer.GranteesOf(connection, guest.Found[Database]);

    private static string Revoked(string name, string role) => $"REVOKE CONNECT ON DATABASE {name} FROM {Said(role)}";

    private static string Said(string role) => role.Length == 0 ? "PUBLIC" : PgConnection.Quote(role);

    // Everybody is "", so that a list of nobody has to be told from it.
    private static string Listed(IEnumerable<string> roles) => string.Concat(roles.Select(role => role + "\n"));

    private static string[] Lines(string text) => text.Length == 0 ? [] : text[..^1].Split('\n');

    private static void Together(NpgsqlConnection connection, string what, IReadOnlyList<string> statements)
    {
        try
        {
            using NpgsqlTransaction all = connection.BeginTransaction();
            foreach (string statement in statements) PgConnection.Execute(connection, statement);
            all.Commit();
        }
        catch (NpgsqlException error)
        {
            throw PgConnection.Stopped(what, error);
        }
    }
}
