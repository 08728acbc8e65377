// PgPlace.cs: where a table is in a database of several schemas, and what we call it: a table of the company's own schema by its name, one
// of another by schema.table. Where they are looked up: PgPlaces.cs.
namespace Transferra.Stores.Postgresql;

/// <summary>A table's place.</summary>
internal sealed record PgPlace(string Schema, string Table, bool IsPartitioned)
{
    /// <summary>Where the server keeps large objects, in pages: a table of its own that only administrators may read.</summary>
    public static readonly PgPlace LargeObjects = new("pg_catalog", "pg_largeobject", false);

    /// <summary>As SQL writes it.</summary>
    public string Quoted => PgConnection.Quote(Schema) + "." + PgConnection.Quote(Table);

    /// <summary>SQL for what we call a table. A table of the own schema that is called just like that keeps the name; the other is then
    /// written in quotes. So are both of two that would be called the same, such as c of the schema a.b, and b.c of the schema
    /// a.</summary>
    /// <param name="home">The company's own schema.</param>
    /// <param name="space">Alias of its pg_namespace.</param>
    /// <param name="table">Alias of its pg_class.</param>
    public static string Shown(string home, string space = "n", string table = "c") => $"(CASE WHEN {space}.nspname = "
        + $"{PgConnection.Literal(home)} THEN {table}.relname WHEN EXISTS (SELECT 1 FROM pg_class o JOIN pg_namespace h ON h.oid = "
        + $"o.relnamespace WHERE h.nspname = {PgConnection.Literal(home)} AND o.relname = {space}.nspname || '.' || {table}.relname) "
        + $"OR (position('.' IN {space}.nspname || {table}.relname) > 0 AND EXISTS (SELECT 1 FROM pg_class o JOIN pg_namespace h ON h.oid "
        + $"= o.relnamespace WHERE o.oid <> {table}.oid AND o.relkind IN ('r', 'p') AND h.nspname || '.' || o.relname = "
        + $"{space}.nspname || '.' || {table}.relname)) THEN "
        + $"format('\"%s\".\"%s\"', {space}.nspname, {table}.relname) ELSE {space}.nspname || '.' || {table}.relname END)";
}
