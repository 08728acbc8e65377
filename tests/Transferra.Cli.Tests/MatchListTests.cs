using System.Text.Json;
using Transferra.Tests;

namespace Transferra.Cli.Tests;

/// <summary>Every difference in files, the share of values compared, and what people added since, on an office unlike the demo.</summary>
public sealed class MatchListTests : IDisposable
{
    private readonly OddOffice _office = new();

    public void Dispose() => _office.Dispose();

    private string Store(int items = 40) => _office.Add("A", "sqlite", "a b/a.db", items).Store.Path;

    [Fact]
    public void Every_difference_is_in_both_lists_however_many_are_shown()
    {
        string old = Store(3000), renewed = _office["new.db"];
        File.Copy(old, renewed);
        DemoFolder.Execute(renewed, "UPDATE ITEM SET PRICE = PRICE + 100, NAME = NAME || ' ' WHERE INO <= 1500; "
            + "DELETE FROM ITEM WHERE INO = 3000; UPDATE GRP SET TITLE = '=1+1' WHERE GNO = 1");
        Called match = _office.Run("match", "--old", old, "--new", renewed, "--list", _office["lists"], "--json").Expect(1);
        JsonElement hop = match.Json.GetProperty("result").GetProperty("match").GetProperty("hops")[0];
        Assert.Equal(3002, hop.GetProperty("differenceCount").GetInt64());
        JsonElement[] lines = [.. File.ReadLines(_office["lists/differences.jsonl"]).Select(line => JsonDocument.Parse(line).RootElement)];
        Assert.Equal(3002, lines.Length);
        Assert.Equal(1500, lines.Count(line => line.GetProperty("change").GetString() == "blanks"));
        Assert.Equal("missing ITEM 3000", string.Join("; ", lines.Where(line =>
            line.GetProperty("kind").GetString() != "value").Select(line =>
            $"{line.GetProperty("kind").GetString()} {line.GetProperty("table").GetString()} {line.GetProperty("key").GetString()}")));
        // Read by somebody else's program: a text that looks like a formula is a text, and nothing is left out.
        string read = TempFolder.Shell(_office.Path, "/usr/bin/python3 -c 'import openpyxl; "
            + "b = openpyxl.load_workbook(\"lists/differences.xlsx\"); print([(s.title, s.max_row) for s in b]); "
            + "print(b[\"GRP\"][\"F2\"].value, b[\"GRP\"][\"F2\"].data_type)'");
        Assert.Equal("[('Counted', 5), ('GRP', 2), ('ITEM', 3002)]\n=1+1 s", read.Trim());
        Assert.Equal(UnixFileMode.UserRead | UnixFileMode.UserWrite, File.GetUnixFileMode(_office["lists/differences.jsonl"]));
        // A match of later puts its lists in their place.
        File.Copy(old, renewed, overwrite: true);
        _office.Run("match", "--old", old, "--new", renewed, "--list", _office["lists"]).Expect(0).Says("All 0 differences");
        Assert.Empty(File.ReadAllText(_office["lists/differences.jsonl"]));
        Assert.Equal(["differences.jsonl", "differences.xlsx"], Directory.GetFiles(_office["lists"]).Select(Path.GetFileName).Order());
    }

    [Fact]
    public void The_share_of_values_compared_is_told_with_what_was_not()
    {
        string store = Store(5);
        _office.Ready();
        // VER 1 x 2, GRP 2 x 2, ITEM 5 x 5: of all but VER.VAL, which the hop leaves out.
        _office.Run("convert", "A").Expect(0);
        Called match = _office.Run("match", "A").Expect(0).Says("Values compared: 96.77 % (30 of 31); not compared:",
            "VER.VAL, 1 record: left out by the kit: the version is a new one", "of the old store's values, 96.77 %");
        JsonElement share = _office.Run("match", "A", "--json").Expect(0).Json.GetProperty("result")[0].GetProperty("match")
            .GetProperty("hops")[0].GetProperty("share");
        Assert.Equal(31, share.GetProperty("values").GetInt64());
        Assert.Equal(1, share.GetProperty("parts").EnumerateArray().Sum(part => part.GetProperty("values").GetInt64()));
        // Without a kit all of it is compared.
        _office.Run("match", "--old", store, "--new", store).Expect(0).Says("Values compared: 100 % (31 of 31).");
    }

    [Fact]
    public void Weeks_later_what_was_added_is_told_apart_from_what_was_altered_and_what_is_gone()
    {
        string store = Store();
        _office.Ready().Upgrade().Expect(0);
        DemoFolder.Execute(store, "INSERT INTO item SELECT item_no + 40, name, price, made, group_no FROM item WHERE item_no <= 7; "
            + "UPDATE item SET price = price + 100 WHERE item_no IN (3, 4); DELETE FROM item WHERE item_no = 9; "
            + "INSERT INTO grp VALUES (9, 'new'), (0, 'slipped in')");
        Called match = _office.Run("match", "A").Expect(1).Says("nothing differed. Since then:", "added after the last one",
            "8 records added at the end, 1 added among the old, 2 altered, 1 gone");
        string[] told = [.. match.Out.Split('\n').SkipWhile(line => !line.Contains("Since then", StringComparison.Ordinal))];
        Assert.Contains(told, line => Words(line) == "item 7 0 2 1");
        Assert.Contains(told, line => Words(line) == "grp 1 1 0 0");
    }

    private static string Words(string line) => string.Join(' ', line.Split(' ', StringSplitOptions.RemoveEmptyEntries));
}
