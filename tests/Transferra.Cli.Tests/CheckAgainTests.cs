using System.Text.Json;

namespace Transferra.Cli.Tests;

/// <summary>Whether the engine looks through the new store once more when it is in its place.</summary>
public sealed class CheckAgainTests : IDisposable
{
    private readonly OddOffice _office = new();

    public void Dispose() => _office.Dispose();

    // A store whose digest takes long enough for the clock of any volume but the coarsest to go on.
    private void Ready()
    {
        _office.Add("A", "sqlite", "data/a.db", records: 40);
        DemoFolder.Execute(_office["data/a.db"], "CREATE TABLE pictures (id INTEGER PRIMARY KEY, picture BLOB); WITH RECURSIVE c(i) AS "
            + "(SELECT 1 UNION ALL SELECT i + 1 FROM c WHERE i < 80) INSERT INTO pictures SELECT i, randomblob(1000000) FROM c");
        _office.Ready();
    }

    private string Engine()
    {
        string journal = Path.Combine(Assert.Single(Directory.GetDirectories(_office["transferra/runs"])), "journal.jsonl");
        JsonElement done = File.ReadLines(journal).Select(line => JsonDocument.Parse(line).RootElement).Last(entry =>
            entry.GetProperty("stage").GetString() == "check-again" && entry.GetProperty("state").GetString() == "done");
        return done.GetProperty("facts").GetProperty("engine").GetString()!;
    }

    [Fact]
    public void Not_where_its_bytes_are_those_that_it_looked_through_when_the_store_was_made()
    {
        Ready();
        _office.Run("upgrade", "--yes", "A").Expect(0);
        Assert.Equal("found nothing when the store was made; these bytes are the same", Engine());
    }

    [Fact]
    public void Again_where_somebody_may_have_been_there_meanwhile()
    {
        Ready();
        BuiltProgram.RunUntilReplaced("check-again.json", 1, _office.Path, "upgrade", "--yes", "A");
        _office.Run("upgrade", "--resume", "--yes", "A").Expect(0);
        Assert.Equal("looked again", Engine());
    }
}
