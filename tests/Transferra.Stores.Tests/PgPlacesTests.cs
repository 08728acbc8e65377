using Npgsql;
using Transferra.Core.Records;
using Transferra.Stores.Postgresql;
using Transferra.Tests;

namespace Transferra.Stores.Tests;

public sealed class PgPlacesTests : IDisposable
{
    private readonly TestServers _servers = new();

    public void Dispose() => _servers.Dispose();

    [Fact]
    public void Tables_are_found_by_what_we_call_them()
    {
        StoreAddress store = _servers.Made("postgresql", "places", "CREATE TABLE kunden (a INTEGER)", "CREATE TABLE \"Kunden\" (a INTEGER)",
            "CREATE TABLE \"Konten\" (a INTEGER) PARTITION BY RANGE (a)", "CREATE TABLE \"books.x\" (a INTEGER)", "CREATE SCHEMA books",
            "CREATE TABLE books.x (a INTEGER)", "CREATE TABLE books.\"Y\" (a INTEGER)", "CREATE VIEW seen AS SELECT 1 AS a",
            "CREATE SCHEMA \"books.old\"", "CREATE TABLE \"books.old\".x (a INTEGER)", "CREATE TABLE books.\"old.x\" (a INTEGER)",
            "CREATE TABLE books.\"old.y\" (a INTEGER)");
        using NpgsqlConnection connection = PgConnection.Open(store.Server!, store.Path);
        var places = new PgPlaces(connection, PgStore.UsualSchema);
        foreach ((string shown, PgPlace? place) in new (string, PgPlace?)[]
        {
            ("kunden", new("public", "kunden", false)),
            ("Kunden", new("public", "Kunden", false)), // exactly so, though the other is like it
            ("konten", new("public", "Konten", true)), // in any case, as there is no other
            ("BOOKS.y", new("books", "Y", false)),
            ("books.x", new("public", "books.x", false)), // the company's own schema comes first
            ("\"books\".\"x\"", new("books", "x", false)),
            ("pg_catalog.pg_largeobject", PgPlace.LargeObjects),
            ("\"books.old\".\"x\"", new("books.old", "x", false)), // these two would be called the same without quotes
            ("\"books\".\"old.x\"", new("books", "old.x", false)),
            ("books.old.x", null),
            ("books.old.y", new("books", "old.y", false)),
            ("seen", null), // no table
            ("later", null),
        }) Assert.Equal(place, places.Find(shown));
        PgConnection.Execute(connection, "CREATE TABLE later (a INTEGER)");
        Assert.Equal(new PgPlace("public", "later", false), places.Find("later"));
    }
}
