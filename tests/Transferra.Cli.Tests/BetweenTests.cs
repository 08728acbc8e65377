using System.Globalization;
using System.Text;
using Transferra.Core.Records;
using Transferra.Tests;

namespace Transferra.Cli.Tests;

/// <summary>Ways of many hops: each is proved as it is gone, and the stores between go.</summary>
public sealed class BetweenTests : IDisposable
{
    private const int Hops = 5;

    private readonly OddOffice _office = new();

    public void Dispose() => _office.Dispose();

    private const string Step = """
        import glob, sqlite3, sys
        store, to, how = sys.argv[1:4]
        db = sqlite3.connect(store)
        db.execute('ALTER TABLE ITEM ADD COLUMN OF_%s TEXT' % to)
        db.execute("UPDATE VER SET VAL = ?", (to,))
        if how == 'loses' and to == '3': db.execute('DELETE FROM ITEM WHERE INO = 2')
        db.commit()
        if how == 'writes' and to == '4':
            for between in glob.glob(store.replace('/v4/', '/v3/')):
                other = sqlite3.connect(between); other.execute("UPDATE ITEM SET NAME = 'spoilt' WHERE INO = 1"); other.commit()
            db.execute("UPDATE ITEM SET NAME = 'spoilt' WHERE INO = 1"); db.commit()
        """;

    private StoreAddress Company(string how = "well", string total = "")
    {
        OddCompany company = _office.Add("A", "sqlite", "data of A/a.db");
        var kit = new StringBuilder("kit: odd\ntitle: Odd\nversions: [").AppendJoin(", ", Enumerable.Range(1, Hops + 1)
            .Select(i => $"\"{i}\"")).Append("]\ntold-by: [{sql: 'SELECT VAL FROM VER'}]\nhops:\n");
        for (int hop = 1; hop <= Hops; hop++)
            kit.Append(CultureInfo.InvariantCulture, $"  - {{hop: {{from: \"{hop}\", to: \"{hop + 1}\"}}, means: {{program: {{command: "
                + $"[/usr/bin/python3, \"{{kit}}/step.py\", \"{{store}}\", \"{hop + 1}\", {how}]}}}}, tables: [{{from: VER, into: {{VER: "
                + $"{{VAL: \"'{hop + 1}'\"}}}}}}]}}\n");
        Directory.Delete(_office["kit"], recursive: true);
        _office.Write("kit/kit.yaml", kit.ToString());
        _office.Write("kit/step.py", Step);
        foreach (char number in total)
            _office.Write($"kit/versions/{number}.yaml", $"version: \"{number}\"\ncontrol-totals:\n  - {{name: prices, "
                + "sql: {sqlite: 'SELECT 1, sum(PRICE) FROM ITEM'}}\n");
        _office.WriteOffice();
        File.WriteAllText(_office["office.yaml"], File.ReadAllText(_office["office.yaml"]).Replace("wanted-version: \"2\"",
            $"wanted-version: \"{Hops + 1}\"", StringComparison.Ordinal));
        _office.Run("ready", "--confirm", "one-disk");
        return company.Store;
    }

    // The versions of which a store lies in the run's folder.
    private string[] Between() => [.. Directory.GetFiles(_office["data of A"], "a.db", SearchOption.AllDirectories)
        .Select(file => Path.GetFileName(Path.GetDirectoryName(file))!).Where(name => name.StartsWith('v')).Order(StringComparer.Ordinal)];

    [Fact]
    public void Each_hop_is_proved_on_the_way_and_of_the_stores_between_the_last_one_stays()
    {
        StoreAddress store = Company();
        IReadOnlyDictionary<string, string> before = _office.Signature("data of A");
        _office.Run("ready").Says("converted copies of 5 hops, two at a time");
        _office.Upgrade().Expect(0).Says("A through 6", "Version 1 to 2: proved on the way", "Version 4 to 5: proved on the way");
        Assert.Equal(["v5"], Between());
        _office.Run("match").Expect(0).Says("Version 3 to 4: proved on the way", "Proved: the new store of A");
        Assert.Equal("5", DemoFolder.Ask(store.Path, "SELECT count(*) FROM ITEM WHERE OF_6 IS NULL"));
        // Weeks later, record by record.
        byte[] made = File.ReadAllBytes(store.Path);
        DemoFolder.Execute(store.Path, "UPDATE ITEM SET NAME = 'renamed' WHERE INO = 4");
        _office.Run("match").Expect(1).Says("NOT proved for A", "renamed");
        File.WriteAllBytes(store.Path, made);
        // The last one between, or the old one, is not what was proved: nothing follows from what was.
        string old = Directory.GetFiles(_office["data of A"], "a.db", SearchOption.AllDirectories).First(file =>
            file.Contains("/old-v1/", StringComparison.Ordinal)), last = old.Replace("/old-v1/", "/v5/", StringComparison.Ordinal);
        foreach (string touched in (string[])[old, last])
        {
            byte[] kept = File.ReadAllBytes(touched);
            DemoFolder.Execute(touched, "UPDATE ITEM SET NAME = 'touched' WHERE INO = 4");
            _office.Run("match").Expect(2).Says("is not what it was when the hop to", "the stores between were let go");
            File.WriteAllBytes(touched, kept);
        }
        _office.Run("match").Expect(0);
        // The old store is gone, and its backup set is there: it stands for what the hops that were proved began with.
        File.Move(old, _office["old.kept"]);
        _office.Run("match").Expect(0).Says("is not there any more; its backup set is:", "Version 3 to 4: proved on the way",
            "Proved: the new store of A");
        DemoFolder.Execute(store.Path, "UPDATE ITEM SET NAME = 'renamed' WHERE INO = 4");
        _office.Run("match").Expect(1).Says("NOT proved for A", "renamed");
        File.WriteAllBytes(store.Path, made);
        File.Move(last, _office["last.kept"]);
        _office.Run("match").Expect(0).Says("nor are the stores of the versions between").SaysNot("Proved: the new store of A");
        File.Move(_office["last.kept"], last);
        File.Move(_office["old.kept"], old);
        _office.Run("undo", "--yes", "A").Expect(0);
        Assert.Equal(before, _office.Signature("data of A"));
    }

    [Fact]
    public void Where_it_is_asked_for_all_of_them_stay()
    {
        Company();
        _office.Upgrade("--keep-between").Expect(0).SaysNot("proved on the way");
        Assert.Equal(["v2", "v3", "v4", "v5"], Between());
        _office.Run("match").Expect(0).SaysNot("proved on the way");
    }

    [Fact]
    public void One_that_a_total_over_the_way_needs_stays()
    {
        Company(total: "136");
        _office.Upgrade().Expect(0).Says("A through 6");
        Assert.Equal(["v3", "v5"], Between());
        _office.Run("match").Expect(0).Says("prices", "version 1 against 3", "version 3 against 6");
    }

    [Theory]
    [InlineData("loses", "NOT proved for A")]
    [InlineData("writes", "the store of version 3 is not what it was when it was proved")]
    public void What_is_not_proved_keeps_its_stores_or_stops_and_nothing_is_lost(string how, string says)
    {
        Company(how);
        IReadOnlyDictionary<string, string> before = _office.Signature("data of A");
        _office.Upgrade().Expect(1).Says(says);
        Assert.Equal(before, _office.Signature("data of A"));
        if (how == "writes") return;
        _office.Run("convert").Expect(0);
        Assert.Equal(["v2", "v3", "v4", "v5", "v6"], Between());
        _office.Run("match").Expect(1).Says("NOT proved for A", "Version 2 to 3:");
    }

    [Fact]
    public void Killed_at_any_operation_it_goes_on_with_what_is_left_and_is_proved()
    {
        int killed = 0;
        for (int n = 50; ; n += Seeds.IsSoak ? 1 : 43)
        {
            using var office = new BetweenTests();
            office.Company();
            IReadOnlyDictionary<string, string> before = office._office.Signature("data of A");
            if (BuiltProgram.RunUntil(n, office._office.Path, "upgrade", "--yes", "A").ExitCode != 137) break;
            killed++;
            // Killed after the run, when the office is opened again, there is nothing to resume.
            if (killed % 2 == 1 && office._office.Run("upgrade", "--resume") is { ExitCode: not 2 } resumed)
            {
                resumed.Expect(0);
                Assert.Equal(["v5"], office.Between());
                office._office.Run("match").Expect(0).Says("Proved: the new store of A");
            }
            if (office._office.Run("undo", "--yes", "A") is { ExitCode: not 2 } undone) undone.Expect(0);
            office._office.Run("reopen");
            Assert.Equal(before, office._office.Signature("data of A"));
        }
        Assert.InRange(killed, 4, 1000);
    }
}
