using System.Text.Json;

namespace Transferra.Cli.Tests;

/// <summary>.dbf folders whose headers do not say what is there: every command tells, and nothing of them is proved.</summary>
public sealed class DbfOfficeTests : IDisposable
{
    private readonly OddOffice _office = new();

    public void Dispose() => _office.Dispose();

    private void Patch(string table, Action<byte[]> change, int cut = 0)
    {
        string path = Directory.GetFiles(_office["data/a"], table, new EnumerationOptions { MatchCasing = MatchCasing.CaseInsensitive })
            .Single();
        byte[] bytes = File.ReadAllBytes(path);
        change(bytes);
        File.WriteAllBytes(path, bytes[..^cut]);
    }

    [Theory]
    [InlineData("counts fewer", "there are 2 more", 5, 0)]
    [InlineData("cut", "but only 3 are wholly there", 3, 1)]
    public void A_table_that_does_not_add_up_is_told_by_every_command_and_never_converted(string how, string words, int salvaged, int lost)
    {
        _office.Add("A", "dbf", "data/a");
        _office.Ready();
        _office.Run("convert", "A").Expect(0);
        if (how == "cut")
        {
            int record = 0;
            Patch("item.dbf", bytes => record = BitConverter.ToUInt16(bytes, 10));
            Patch("item.dbf", _ => { }, cut: 1 + record + record / 2);
        }
        else Patch("item.dbf", bytes => bytes[4] = 3);
        _office.Run("survey").Expect(1).Says("does not add up", words, "transferra check A --salvage");
        _office.Run("check").Expect(1).Says(words);
        _office.Run("backup").Expect(1).Says("the store itself does not add up", words);
        _office.Run("match", "A").Expect(1).Says("NOT proved for A", words);
        _office.Run("undo", "--yes", "A").Expect(0);
        _office.Run("convert", "A").Expect(1).Says("does not add up", words);
        _office.Upgrade().Expect(1).Says(words);
        JsonElement result = _office.Run("check", "A", "--salvage", _office["saved"], "--json")
            .Expect(lost > 0 ? 1 : 0).Json.GetProperty("result").GetProperty("result");
        Assert.Equal(salvaged, result.GetProperty("tables").GetProperty("ITEM").GetInt32());
        Assert.Equal(lost, result.GetProperty("lost").GetArrayLength());
    }

    [Fact]
    public void Fields_of_one_name_go_their_own_ways()
    {
        // NAME and MADE are both called NAME now, and the kit knows neither: they are custom fields, told apart by position.
        _office.WriteKit(oldVersion: OddOffice.OldVersion.Replace("NAME: VARCHAR(40), ", "", StringComparison.Ordinal)
            .Replace(", MADE: DATE", "", StringComparison.Ordinal),
            hop: OddOffice.Hop.Replace("name: NAME", "name: \"NULL\"", StringComparison.Ordinal).Replace("made: MADE", "made: \"NULL\"",
                StringComparison.Ordinal));
        OddCompany company = _office.Add("A", "dbf", "data/a");
        Patch("item.dbf", bytes =>
        {
            int at = bytes.AsSpan().IndexOf("MADE\0"u8);
            "NAME"u8.CopyTo(bytes.AsSpan(at));
        });
        IReadOnlyList<string> before = OddOffice.Rows(company.Store);
        Assert.Contains("A item 3", before.First(row => row.StartsWith("item: 3 ", StringComparison.Ordinal)), StringComparison.Ordinal);
        _office.Ready();
        _office.Run("check", "A").Says("is called \"NAME\" like an earlier one, and is read as NAME_2");
        _office.Run("convert", "A").Expect(0);
        _office.Run("match", "A").Expect(0);
        string row = OddOffice.Rows(company.Store with
        {
            Path = Directory.GetDirectories(Directory.GetDirectories(_office["data"],
            "transferra-*")[0], "v2/*")[0]
        })
            .First(row => row.StartsWith("item: 3 ", StringComparison.Ordinal));
        Assert.Contains("A item 3", row, StringComparison.Ordinal);
        Assert.Contains("2024-01-04", row, StringComparison.Ordinal);
    }
}
