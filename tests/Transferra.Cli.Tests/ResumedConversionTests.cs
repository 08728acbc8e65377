using System.Text.Json.Nodes;
using Transferra.Core.Records;
using Transferra.Tests;

namespace Transferra.Cli.Tests;

/// <summary>A conversion that was interrupted goes on where it was, and only where nothing has changed since.</summary>
public sealed class ResumedConversionTests : IDisposable
{
    private const string Progress = "convert-progress.json", Marker = "taken from before the interruption";

    private readonly OddOffice _office = new();
    private readonly TestServers _servers = new();

    public void Dispose()
    {
        _office.Dispose();
        _servers.Dispose();
    }

    public static TheoryData<string> EachEngine =>
        ["sqlite", "dbf", "delimited", "json-lines", "postgresql", "mariadb", "firebird"];

    // Kills the upgrade when the first of the three tables is through and kept, and marks what is known of it, so that it is seen where
    // that comes from later.
    private void Interrupt()
    {
        _office.Ready();
        // Kept: that it begins, then each table.
        BuiltProgram.RunUntilReplaced(Progress, 2, _office.Path, "upgrade", "--yes", "A").Expect(137);
        string file = Assert.Single(Directory.GetFiles(_office["transferra"], Progress, SearchOption.AllDirectories));
        JsonNode progress = JsonNode.Parse(File.ReadAllText(file))!;
        JsonNode table = Assert.Single(progress["hops"]![0]!["tables"]!.AsArray())!;
        Assert.Equal("VER", table["account"]!["table"]!.GetValue<string>());
        Assert.Equal(1, progress["hops"]![0]!["mark"]!["tables"]!["version"]!["rows"]!.GetValue<long>());
        table["account"]!["rules"]![Marker] = 1;
        File.WriteAllText(file, progress.ToJsonString());
    }

    private bool WentOn() => Directory.GetFiles(_office["transferra"], "convert.json", SearchOption.AllDirectories)
        .Any(file => File.ReadAllText(file).Contains(Marker, StringComparison.Ordinal));

    [Theory]
    [MemberData(nameof(EachEngine))]
    public void It_goes_on_with_the_table_that_was_not_through(string engine)
    {
        if (StoreAddress.ServerEngines.Contains(engine)) _office.Add("A", _servers.Database(engine, "a"));
        else _office.Add("A", engine, "data/a");
        Interrupt();
        _office.Run("upgrade", "--resume").Expect(0).Says("A through 2");
        Assert.True(WentOn());
        Assert.Empty(Directory.GetFiles(_office["transferra"], Progress, SearchOption.AllDirectories));
        _office.Run("match").Expect(0).Says("Proved");
    }

    public static TheoryData<string> EachChange => ["the kit", "the staged store", "nothing of it is left"];

    [Theory]
    [MemberData(nameof(EachChange))]
    public void When_something_has_changed_it_begins_anew(string changed)
    {
        _office.Add("A", "sqlite", "data/a");
        Interrupt();
        string staged = Assert.Single(Directory.GetFiles(_office["data"], "*", SearchOption.AllDirectories),
            file => file != _office["data/a"] && !file.EndsWith(".json", StringComparison.Ordinal)
                && !file.EndsWith("-journal", StringComparison.Ordinal));
        switch (changed)
        {
            case "the kit": File.AppendAllText(_office["kit/hops/1-to-2.yaml"], "# a word more\n"); break;
            case "the staged store": DemoFolder.Execute(staged, "DELETE FROM version"); break;
            default: File.Delete(staged); break;
        }
        _office.Run("upgrade", "--resume").Expect(0).Says("A through 2");
        Assert.False(WentOn());
        _office.Run("match").Expect(0).Says("Proved");
    }

    // The fourth time the last table is kept, the fifth that the store is being completed, the sixth that it is. Daily one of the two for
    // each engine.
    public static TheoryData<string, int> EachEngineWhileItIsCompleted
    {
        get
        {
            var moments = new TheoryData<string, int>();
            foreach ((int at, string engine) in EachEngine.Select(row => row.Data).Index())
                foreach (int replaced in Seeds.IsSoak ? [5, -6] : at % 2 == 0 ? (int[])[5] : [-6]) moments.Add(engine, replaced);
            return moments;
        }
    }

    [Theory]
    [MemberData(nameof(EachEngineWhileItIsCompleted))]
    public void Interrupted_while_the_store_is_completed_it_begins_anew_and_no_record_is_there_twice(string engine, int replaced)
    {
        _office.WriteKit(newVersion: OddOffice.NewVersion.Replace("    key: [item_no]", "    key: [item_no]\n"
            + "    indexes: [{columns: [group_no]}]\n    relations: [{columns: [group_no], to: grp, on: [group_no]}]",
            StringComparison.Ordinal) + "  added: {columns: {what: VARCHAR(10)}}\n",
            hop: OddOffice.Hop + "new-records:\n  - {into: added, columns: {what: \"'new'\"}, because: new in version 2}\n");
        if (StoreAddress.ServerEngines.Contains(engine)) _office.Add("A", _servers.Database(engine, "a"));
        else _office.Add("A", engine, "data/a");
        _office.Ready();
        BuiltProgram.RunUntilReplaced(Progress, replaced, _office.Path, "upgrade", "--yes", "A").Expect(137);
        string file = Assert.Single(Directory.GetFiles(_office["transferra"], Progress, SearchOption.AllDirectories));
        Assert.Null(JsonNode.Parse(File.ReadAllText(file))!["hops"]![0]!["mark"]);
        _office.Run("upgrade", "--resume").Expect(0).Says("A through 2", "added: 1 added");
        _office.Run("match").Expect(0).Says("Proved");
    }

    [Theory]
    [InlineData("postgresql")] // which builds its keys at the end
    [InlineData("sqlite")]
    public void Records_with_the_same_key_that_show_after_the_interruption_are_each_named(string engine)
    {
        _office.WriteKit(hop: OddOffice.Hop.Replace("item_no: INO,", "item_no: GNO,", StringComparison.Ordinal)
            .Replace("group_no: GNO}}}", "group_no: GNO}}, columns-left-out: {INO: they are told apart by their group}}",
            StringComparison.Ordinal));
        if (StoreAddress.ServerEngines.Contains(engine)) _office.Add("A", _servers.Database(engine, "a"));
        else _office.Add("A", engine, "data/a");
        _office.Ready();
        BuiltProgram.RunUntilReplaced(Progress, 2, _office.Path, "upgrade", "--yes", "A", "--despite-faults").Expect(137);
        _office.Run("upgrade", "--resume").Expect(1).Says("could not be converted", "is not changed over, because");
        string list = Assert.Single(Directory.GetFiles(_office["transferra"], "exceptions.jsonl", SearchOption.AllDirectories));
        Assert.NotEmpty(File.ReadLines(list));
        Assert.All(File.ReadLines(list), line => Assert.Equal("ITEM", JsonNode.Parse(line)!["exception"]!["table"]!.GetValue<string>()));
    }

    [Fact]
    public void Exceptions_before_and_after_the_interruption_are_each_listed_once()
    {
        _office.WriteKit(hop: OddOffice.Hop.Replace("title: TITLE", "title: CAST(TITLE AS VARCHAR(3))", StringComparison.Ordinal)
            .Replace("name: NAME", "name: CAST(NAME AS VARCHAR(4))", StringComparison.Ordinal));
        _office.Add("A", "sqlite", "data/a");
        _office.Ready();
        string[] upgrade = ["upgrade", "--yes", "A", "--despite-faults"];
        BuiltProgram.RunUntilReplaced(Progress, 3, _office.Path, upgrade).Expect(137);
        string list = Assert.Single(Directory.GetFiles(_office["transferra"], "exceptions.jsonl", SearchOption.AllDirectories));
        // What came behind the mark goes: half a line, as a stop leaves it.
        File.AppendAllText(list, "{\"hop\":\"1-2\",\"exception\":{\"table\":\"IT");
        _office.Run("upgrade", "--resume");
        JsonNode[] exceptions = [.. File.ReadLines(list).Select(line => JsonNode.Parse(line)!["exception"]!)];
        string[] keys = [.. exceptions.Select(one => $"{one["table"]} {one["keyValues"]!.ToJsonString()}")];
        Assert.Equal(keys.Distinct(), keys);
        Assert.Contains("GRP {\"GNO\":\"1\"}", keys);
        Assert.Contains(keys, key => key.StartsWith("ITEM {\"INO\":", StringComparison.Ordinal));
        Assert.Equal(keys.Length, File.ReadLines(Path.ChangeExtension(list, "csv")).Count() - 1);
    }
}
