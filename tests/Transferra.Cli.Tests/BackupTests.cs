using System.Text.Json;

namespace Transferra.Cli.Tests;

/// <summary>Backup sets in more than one place.</summary>
public sealed class BackupTests
{
    [Fact]
    public void A_place_that_fails_does_not_stop_the_others_but_the_wanted_number_must_be_proved()
    {
        using var office = new DemoFolder(small: true);
        File.WriteAllText(office["in-the-way"], "a file where a folder should be");
        Places(office, "backup: {to: [in-the-way, sets, elsewhere/sets]}");
        JsonElement sets = BuiltProgram.Run(office.Path, "backup", "QIH", "--json").Expect(4).Json.GetProperty("result")[0].GetProperty("sets");
        Assert.Equal([false, true, true], sets.EnumerateArray().Select(set => set.GetProperty("isProved").GetBoolean()));
        Assert.Equal("place", sets[0].GetProperty("faults")[0].GetProperty("code").GetString());
        // The same set in both places, byte for byte, and nothing left of the packing.
        string[] written = [Assert.Single(Directory.GetFileSystemEntries(office["sets"])), Assert.Single(Directory.GetFileSystemEntries(office["elsewhere/sets"]))];
        Assert.Equal(File.ReadAllBytes(written[0]), File.ReadAllBytes(written[1]));
        Places(office, "backup: {to: [in-the-way, sets, elsewhere/sets], wanted: 2}");
        BuiltProgram.Run(office.Path, "backup", "QIH").Expect(1).Says("NOT proved", "in-the-way");
        Places(office, "backup: {to: [sets], wanted: 3}");
        BuiltProgram.Run(office.Path, "backup", "QIH").Expect(2).Says("\"3\" should be a number of sets, 1 to 1");
    }

    private static void Places(DemoFolder office, string backup)
    {
        string[] lines = [.. File.ReadAllLines(office["office.yaml"]).Where(line => !line.StartsWith("backup:", StringComparison.Ordinal) && line != "  to: [sets]")];
        File.WriteAllLines(office["office.yaml"], [.. lines, backup]);
    }
}
