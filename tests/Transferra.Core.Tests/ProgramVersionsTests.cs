using Transferra.Core.Kits;
using Transferra.Core.Office;
using Transferra.Core.Records;
using Transferra.Core.Surveys;

namespace Transferra.Core.Tests;

public class ProgramVersionsTests
{
    [Theory]
    [InlineData(null, null, true, null)] // nothing is known of it
    [InlineData("5.4", "6.0", true, "5.4 when the run began, 6.0 now, which opens data of version 2")]
    [InlineData("5.4", "5.4", true, "5.4 when the run began, 5.4 now, which does not open data of version 2; it needs program version 6.x")]
    [InlineData(null, "6.1", true, "not told when the run began, 6.1 now, which opens data of version 2")]
    [InlineData("5.4", null, true, "5.4 when the run began, not told now")]
    [InlineData("5.4", "6.0", false, "5.4 when the run began, 6.0 now")] // the kit does not say what opens it
    public void A_program_is_told_beside_its_data(string? before, string? now, bool kitSays, string? words)
    {
        KitVersion data = SampleKit.LoadHop().To with { Programs = kitSays ? ["6."] : [] };
        Assert.Equal(words, ProgramVersions.Matched(before, now, data)?.Words());
    }

    [Fact]
    public void Of_many_companies_each_package_is_asked_once_and_one_that_is_in_none_not_at_all()
    {
        Kit kit = SampleKit.Load();
        Company Of(string code) => new(code, code, kit, "2", new StoreAddress("memory", code), null, [], new Dictionary<string, string>());
        var office = new OfficeDescription("Office", "/", [new Package(kit, null, "2", [Of("A"), Of("B")]),
            new Package(kit, null, "2", [Of("C")])], BackupPlan.In(), 0);
        var asked = new List<string>();
        Func<Company, string?> installed = ProgramVersions.AtOneMoment(office, company =>
        {
            asked.Add(company.Code);
            return company.Code == "C" ? null : "5.4";
        });
        Assert.Equal(["5.4", "5.4", null, null, null], ((string[])["A", "B", "C", "C", "X"]).Select(code => installed(Of(code))));
        Assert.Equal(["A", "C"], asked);
    }
}
