using Transferra.Core.Records;

namespace Transferra.Cli.Tests;

/// <summary>A person converts a copy by the vendor's steps: the run waits, and sees from the data whether it was done.</summary>
public sealed class ByHandTests : IDisposable
{
    private readonly OddOffice _office = new();

    public void Dispose() => _office.Dispose();

    private void WriteKit()
    {
        _office.Write("kit/kit.yaml", "kit: odd\ntitle: Odd\nversions: [\"1\", \"2\"]\nhops: [1-to-2]\n");
        foreach (string version in (string[])["1", "2"])
            _office.Write($"kit/versions/{version}.yaml",
                $"version: \"{version}\"\ntold-by: [{{sql: 'SELECT VAL FROM VER', is: \"{version}\"}}]\n");
        _office.Write("kit/hops/1-to-2.yaml", """
            hop: {from: "1", to: "2"}
            means:
              by-hand:
                steps:
                  - Start the new program and open {store}.
                  - Log in as the administrator of {company}, and say yes when it asks to convert.
            tables:
              - {from: VER, into: {VER: {VAL: "'2'"}}}

            """);
    }

    private StoreAddress Company(string code) => _office.Add(code, "sqlite", $"data/{code}.db").Store;

    private string Copy(string code) => Assert.Single(Directory.GetFiles(_office["data"], "*.db", SearchOption.AllDirectories),
        file => file.Contains($"-{code}/v2/", StringComparison.Ordinal));

    [Fact]
    public void The_run_waits_and_goes_on_when_the_data_says_that_it_was_done()
    {
        WriteKit();
        StoreAddress store = Company("A");
        _office.Ready();
        _office.Upgrade().Expect(3).Says("A waits for you. Do this, in this order (to print: ", "1. Start the new program and open ",
            "2. Log in as the administrator of A,", "waiting", "go on: transferra upgrade --resume", "The office stays closed");
        string page = File.ReadAllText(Assert.Single(Directory.GetFiles(_office["transferra"], "by-hand-1-2.txt",
            SearchOption.AllDirectories)));
        Assert.Contains("[ ] 2. Log in as the administrator of A", page, StringComparison.Ordinal);
        // Not yet done: it goes on waiting, with the copy as it is.
        DemoFolder.Execute(Copy("A"), "ALTER TABLE ITEM ADD COLUMN NOTE TEXT");
        _office.Run("upgrade", "--resume").Expect(3).Says("A waits for you");
        DemoFolder.Execute(Copy("A"), "UPDATE VER SET VAL = '2'");
        using (File.OpenRead(Copy("A")))
            _office.Run("upgrade", "--resume").Expect(3).Says("A waits for you", "1. Close the program that has it open: ");
        _office.Run("upgrade", "--resume").Expect(0).Says("by hand, on a copy, in 2 steps", "A through 2");
        _office.Run("match").Expect(0).Says("Proved: the new store of A", "the column NOTE of ITEM");
        Assert.Equal("2", DemoFolder.Ask(store.Path, "SELECT VAL FROM VER"));
    }

    [Fact]
    public void While_one_company_waits_the_others_are_got_through_and_it_can_be_taken_back()
    {
        WriteKit();
        StoreAddress a = Company("A"), b = Company("B");
        _office.Ready();
        _office.Upgrade().Expect(3).Says("A waits for you", "B waits for you");
        DemoFolder.Execute(Copy("B"), "UPDATE VER SET VAL = '2'; DELETE FROM ITEM WHERE INO = 1");
        _office.Run("upgrade", "--resume").Expect(3).Says("A waits for you", "1 difference in B", "B stopped");
        _office.Run("undo", "--yes", "A", "--yes", "B").Expect(0);
        foreach (StoreAddress store in (StoreAddress[])[a, b])
            Assert.Equal("1 5", DemoFolder.Ask(store.Path, "SELECT VAL || ' ' || (SELECT count(*) FROM ITEM) FROM VER"));
        Assert.Empty(Directory.GetDirectories(_office["data"]));
    }

    [Fact]
    public void A_trial_conversion_waits_too_and_says_how_to_go_on()
    {
        WriteKit();
        Company("A");
        _office.Ready();
        _office.Run("convert", "A").Expect(3).Says("A waits for you", "go on: transferra upgrade --resume");
        DemoFolder.Execute(Copy("A"), "UPDATE VER SET VAL = '2'");
        _office.Run("upgrade", "--resume").Expect(0).Says("by hand, on a copy, in 2 steps");
        _office.Run("match", "A").Expect(0).Says("Proved");
    }
}
