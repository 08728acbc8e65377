// FbGuest.cs: lets one account into a database that is shut down for all others. The server can only bring it online for everybody, so
// what runs at each login turns away all but that account, the owner and SYSDBA (Firebird 3.0 Language Reference, "Database Triggers").
// Holds: (1) it is there before the database is online, and goes only when that is shut down again.
using System.Globalization;
using FirebirdSql.Data.FirebirdClient;
using Transferra.Core.Records;

namespace Transferra.Stores.Firebird;

internal static class FbGuest
{
    internal const string Mode = "mode";

    private const string Guard = "TRANSFERRA_GUARD", Refusal = "TRANSFERRA_REFUSAL";

    public static StoreGuest Found(FbConnection connection, string name, string account) => new(name, account, new Dictionary<string,
        string>
    {
        [Mode] = Convert.ToString(FbLink.Scalar(connection, null, "SELECT MON$SHUTDOWN_MODE FROM MON$DATABASE"),
            CultureInfo.InvariantCulture)!
    });

    /// <summary>Makes what turns others away.</summary>
    public static void Stand(FbConnection connection, string account)
    {
        try
        {
            if (!HasRefusal(connection)) FbLink.Execute(connection, null, $"CREATE EXCEPTION {Refusal} 'The database is being upgraded.'");
            FbLink.Execute(connection, null, $"CREATE OR ALTER TRIGGER {Guard} ACTIVE ON CONNECT POSITION 0 AS BEGIN IF "
                + $"(UPPER(CURRENT_USER) NOT IN ('SYSDBA', UPPER({FbLink.Literal(account)})) AND NOT EXISTS (SELECT 1 FROM MON$DATABASE "
                + $"WHERE TRIM(MON$OWNER) = TRIM(CURRENT_USER))) THEN EXCEPTION {Refusal}; END");
        }
        catch (FbException error)
        {
            throw FbLink.Stopped($"{account} cannot be let in alone", error);
        }
    }

    /// <summary>Removes it; fine when it is not there.</summary>
    public static void StandDown(FbConnection connection, string account)
    {
        try
        {
            if (FbLink.Scalar(connection, null, $"SELECT 1 FROM RDB$TRIGGERS WHERE RDB$TRIGGER_NAME = '{Guard}'") is not null)
                FbLink.Execute(connection, null, $"DROP TRIGGER {Guard}");
            if (HasRefusal(connection)) FbLink.Execute(connection, null, $"DROP EXCEPTION {Refusal}");
        }
        catch (FbException error)
        {
            throw FbLink.Stopped($"what kept others than {account} out cannot be removed", error);
        }
    }

    private static bool HasRefusal(FbConnection connection) =>
        FbLink.Scalar(connection, null, $"SELECT 1 FROM RDB$EXCEPTIONS WHERE RDB$EXCEPTION_NAME = '{Refusal}'") is not null;
}
