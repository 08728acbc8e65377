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

    [Fact]
    public void Tables_that_would_be_called_the_same_are_read_each_by_itself()
    {
        StoreAddress at = _servers.Made("postgresql", "alike", "CREATE SCHEMA a", "CREATE SCHEMA \"a.b\"",
            "CREATE TABLE \"a.b\".c (id INTEGER PRIMARY KEY)", "CREATE TABLE a.\"b.c\" (id INTEGER REFERENCES \"a.b\".c (id))",
            "INSERT INTO \"a.b\".c VALUES (1), (2)", "INSERT INTO a.\"b.c\" VALUES (2)");
        using IStore store = new StoreOpener().Open(at);
        Assert.Equal(["\"a\".\"b.c\"", "\"a.b\".\"c\""], store.ReadShape().Select(table => table.Name).Order(StringComparer.Ordinal));
        Assert.Equal((1, 2), (store.CountRows("\"a\".\"b.c\""), store.CountRows("\"a.b\".\"c\"")));
        Assert.Equal("\"a.b\".\"c\"", Assert.Single(store.ReadShape().SelectMany(table => table.Relations)).To);
    }
}
