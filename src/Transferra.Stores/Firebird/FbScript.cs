// FbScript.cs: everything a Firebird database has beside its rows: the engine's own backup of declarations only, made by its service, and
// the few things that have to be done behind the rows again. The texts of views and routines can also be read in the exported list of
// objects.
// Holds: (1) indexes and triggers that were switched off stay so; (2) counting goes on where it had come to; (3) checks that look into
// other tables come last.
using System.Globalization;
using FirebirdSql.Data.FirebirdClient;
using FirebirdSql.Data.Services;
using Transferra.Core.Records;

namespace Transferra.Stores.Firebird;

internal static class FbScript
{
    private const string FileName = "schema.fbk";

    /// <summary>Reads it; null when this user may not use the engine's backup, and why.</summary>
    /// <param name="address">The database.</param>
    /// <param name="ask">Asks in the store's snapshot.</param>
    /// <param name="quote">Writes a name in the database's dialect.</param>
    /// <param name="folder">Gets the engine's file; null to try only.</param>
    /// <param name="why">Why not.</param>
    public static StoreScript? Read(StoreAddress address, Func<string, List<IReadOnlyList<string?>>> ask, Func<string, string> quote,
        string? folder, out string why)
    {
        why = "";
        try
        {
            using Stream file = folder is null ? new MemoryStream() : new FileStream(Path.Combine(folder, FileName), FileMode.Create,
                FileAccess.Write);
            FbOwnBackup.Write(address, file, FbBackupFlags.MetaDataOnly);
        }
        catch (FbException error)
        {
            why = FbLink.FirstLine(error);
            if (folder is not null) File.Delete(Path.Combine(folder, FileName));
            return null;
        }
        // Keys before what refers to them.
        IEnumerable<string> indexes = ask("SELECT TRIM(i.RDB$INDEX_NAME) FROM RDB$INDICES i LEFT JOIN RDB$RELATION_CONSTRAINTS c ON "
            + "c.RDB$INDEX_NAME = i.RDB$INDEX_NAME WHERE COALESCE(i.RDB$SYSTEM_FLAG, 0) = 0 AND COALESCE(i.RDB$INDEX_INACTIVE, 0) = 0 "
            + "ORDER BY CASE WHEN i.RDB$FOREIGN_KEY IS NOT NULL THEN 3 WHEN c.RDB$CONSTRAINT_TYPE = 'PRIMARY KEY' THEN 0 WHEN "
            + "c.RDB$CONSTRAINT_TYPE IS NOT NULL THEN 1 ELSE 2 END, 1").Select(row => $"ALTER INDEX {quote(row[0]!)} ACTIVE");
        IEnumerable<string> triggers = Triggers(ask).Select(name => $"ALTER TRIGGER {quote(name)} ACTIVE");
        IEnumerable<string> positions = ask("SELECT TRIM(RDB$GENERATOR_NAME) FROM RDB$GENERATORS WHERE COALESCE(RDB$SYSTEM_FLAG, 0) IN "
            + "(0, 6) ORDER BY 1")
            .Select(row => string.Create(CultureInfo.InvariantCulture,
                $"SET GENERATOR {quote(row[0]!)} TO {ask($"SELECT GEN_ID({quote(row[0]!)}, 0) FROM RDB$DATABASE")[0][0]}"));
        // A check that looks into other tables would refuse records whose others are not there yet. The engine cannot switch it off, so
        // it is taken away and made again.
        (string Table, string Name, string Source)[] looking = [.. ask("SELECT TRIM(r.RDB$RELATION_NAME), TRIM(r.RDB$CONSTRAINT_NAME), "
            + "t.RDB$TRIGGER_SOURCE FROM RDB$RELATION_CONSTRAINTS r "
            + "JOIN RDB$CHECK_CONSTRAINTS c ON c.RDB$CONSTRAINT_NAME = r.RDB$CONSTRAINT_NAME JOIN RDB$TRIGGERS t ON t.RDB$TRIGGER_NAME = "
            + "c.RDB$TRIGGER_NAME "
            + "WHERE r.RDB$CONSTRAINT_TYPE = 'CHECK' AND t.RDB$TRIGGER_TYPE = 1 AND UPPER(CAST(SUBSTRING(t.RDB$TRIGGER_SOURCE FROM 1 FOR "
            + "8000) AS VARCHAR(8000))) LIKE '%SELECT%' ORDER BY 1, 2")
            .Select(row => (row[0]!, row[1]!, row[2]!))];
        IEnumerable<string> awayWithChecks = looking.Select(check =>
            $"ALTER TABLE {quote(check.Table)} DROP CONSTRAINT {quote(check.Name)}");
        IEnumerable<string> checks = looking.Select(check =>
            $"ALTER TABLE {quote(check.Table)} ADD CONSTRAINT {quote(check.Name)} {check.Source}");
        return new StoreScript([.. awayWithChecks, .. Triggers(ask).Select(name => $"ALTER TRIGGER {quote(name)} INACTIVE")],
            [.. indexes, .. checks, .. triggers, .. positions], [])
        { File = FileName };
    }

    private static IEnumerable<string> Triggers(Func<string, List<IReadOnlyList<string?>>> ask) =>
        ask("SELECT TRIM(RDB$TRIGGER_NAME) FROM RDB$TRIGGERS WHERE COALESCE(RDB$SYSTEM_FLAG, 0) = 0 AND COALESCE(RDB$TRIGGER_INACTIVE, "
            + "0) = 0 ORDER BY 1").Select(row => row[0]!);
}
