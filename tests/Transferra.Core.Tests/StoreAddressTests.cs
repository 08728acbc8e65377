using Transferra.Core.Records;

namespace Transferra.Core.Tests;

public sealed class StoreAddressTests
{
    private static readonly ServerAddress Server = new("db", 5432, "keeper", "/secret/file");

    [Fact]
    public void A_place_beside_a_file_lies_in_the_runs_folder()
    {
        StoreAddress address = new("sqlite", "/data/QIH/ledger.db");
        Assert.Equal("/data/QIH/transferra-7/v6/ledger.db", address.Beside("/data/QIH/transferra-7", "7", "v6").Path);
        Assert.Equal(("/data/QIH/ledger.db", "ledger.db", "/data/QIH", false), (address.Shown, address.Name, address.Folder,
            address.IsOnServer));
    }

    [Theory]
    [InlineData("postgresql", "ledger", "transferra-7-v6-ledger")]
    [InlineData("firebird", "/srv/fb/ledger.fdb", "/srv/fb/transferra-7-v6-ledger.fdb")]
    public void A_place_beside_a_database_has_a_name_of_its_own(string engine, string path, string beside)
    {
        StoreAddress address = new(engine, path, Server: Server);
        Assert.Equal(beside, address.Beside("/nowhere", "7", "v6").Path);
        Assert.Equal($"{path} ({engine} at db:5432)", address.Shown);
        Assert.DoesNotContain("secret", address.Shown, StringComparison.Ordinal);
    }

    [Fact]
    public void Long_names_are_cut_and_stay_two()
    {
        string stem = new('é', 40);
        string one = new StoreAddress("postgresql", stem + "1", Server: Server).Beside("", "20261125-120000", "old-v5").Path, two =
            new StoreAddress("postgresql", stem + "2", Server: Server).Beside("", "20261125-120000", "old-v5").Path;
        Assert.NotEqual(one, two);
        Assert.StartsWith("transferra-20261125-120000-old-v5-é", one, StringComparison.Ordinal);
        Assert.InRange(System.Text.Encoding.UTF8.GetByteCount(one), 50, 63);
    }
}
