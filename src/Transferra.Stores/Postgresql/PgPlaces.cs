// PgPlaces.cs: looks tables of a database up by what we call them (PgPlace.Shown). All places are asked for in one question, as one for a
// single table looks through all of them.
// Holds: (1) a table that came after the first look is found, too; (2) exactly the name comes before the name in any case.
using Npgsql;

namespace Transferra.Stores.Postgresql;

/// <summary>Places of the tables of one database.</summary>
/// <param name="connection">In the database.</param>
/// <param name="home">The company's own schema.</param>
internal sealed class PgPlaces(NpgsqlConnection connection, string home)
{
    private readonly string _tables = $"SELECT {PgPlace.Shown(home)}, n.nspname::text, c.relname::text, c.relkind = 'p' FROM pg_class c "
        + $"JOIN pg_namespace n ON n.oid = c.relnamespace WHERE {PgThings.Ours} AND c.relkind IN ('r', 'p')";

    private Dictionary<string, PgPlace>? _known; // by exactly their names

    /// <summary>The table that is called so; its name in any case, when no other is spelt exactly so.</summary>
    /// <param name="shown">What we call it.</param>
    /// <returns>Null when there is none.</returns>
    public PgPlace? Find(string shown)
    {
        if (shown == PgPlace.LargeObjects.Schema + "." + PgPlace.LargeObjects.Table) return PgPlace.LargeObjects;
        _known ??= Ask(_tables).DistinctBy(found => found.Shown).ToDictionary(found => found.Shown, found => found.Place);
        if (_known.TryGetValue(shown, out PgPlace? place)) return place;
        string name = PgPlace.Shown(home), wanted = PgConnection.Literal(shown);
        return Ask($"{_tables} AND lower({name}) = lower({wanted}) ORDER BY {name} <> {wanted} LIMIT 1").FirstOrDefault().Place;
    }

    private List<(string Shown, PgPlace Place)> Ask(string question)
    {
        using var command = new NpgsqlCommand(question, connection);
        using NpgsqlDataReader reader = command.ExecuteReader();
        var found = new List<(string, PgPlace)>();
        while (reader.Read()) found.Add((reader.GetString(0), new PgPlace(reader.GetString(1), reader.GetString(2), reader.GetBoolean(3))));
        return found;
    }
}
