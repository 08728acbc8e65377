// PgPlace.cs: where a table is in a database of several schemas, and what we call it: a table of the company's own schema by its name, one
// of another by schema.table.
using Npgsql;

namespace Transferra.Stores.Postgresql;

/// <summary>A table's place.</summary>
internal sealed record PgPlace(string Schema, string Table, bool IsPartitioned)
{
    /// <summary>Where the server keeps large objects, in pages: a table of its own that only administrators may read.</summary>
    public static readonly PgPlace LargeObjects = new("pg_catalog", "pg_largeobject", false);

    /// <summary>As SQL writes it.</summary>
    public string Quoted => PgConnection.Quote(Schema) + "." + PgConnection.Quote(Table);

    /// <summary>SQL for what we call a table. A table of the own schema that is called just like that keeps the name; the other is then
    /// written in quotes.</summary>
    /// <param name="home">The company's own schema.</param>
    /// <param name="space">Alias of its pg_namespace.</param>
    /// <param name="table">Alias of its pg_class.</param>
    public static string Shown(string home, string space = "n", string table = "c") => $"(CASE WHEN {space}.nspname = "
        + $"{PgConnection.Literal(home)} THEN {table}.relname WHEN EXISTS (SELECT 1 FROM pg_class o JOIN pg_namespace h ON h.oid = "
        + $"o.relnamespace WHERE h.nspname = {PgConnection.Literal(home)} AND o.relname = {space}.nspname || '.' || {table}.relname) THEN "
        + $"format('\"%s\".\"%s\"', {space}.nspname, {table}.relname) ELSE {space}.nspname || '.' || {table}.relname END)";

    /// <summary>The table that is called so; its name in any case, when no other is spelt exactly so.</summary>
    /// <param name="connection">In the database.</param>
    /// <param name="home">The company's own schema.</param>
    /// <param name="shown">What we call it.</param>
    /// <returns>Null when there is none.</returns>
    public static PgPlace? Find(NpgsqlConnection connection, string home, string shown)
    {
        if (shown == LargeObjects.Schema + "." + LargeObjects.Table) return LargeObjects;
        string name = Shown(home);
        using var command = new NpgsqlCommand($"SELECT n.nspname::text, c.relname::text, c.relkind = 'p' FROM pg_class c JOIN "
            + $"pg_namespace n ON n.oid = c.relnamespace WHERE {PgThings.Ours} AND c.relkind IN ('r', 'p') AND lower({name}) = lower($1) "
            + $"ORDER BY {name} <> $1 LIMIT 1", connection);
        command.Parameters.AddWithValue(shown);
        using NpgsqlDataReader reader = command.ExecuteReader();
        return reader.Read() ? new PgPlace(reader.GetString(0), reader.GetString(1), reader.GetBoolean(2)) : null;
    }
}
