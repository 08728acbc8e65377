using Transferra.Core.Kits;
using Transferra.Core.Matching;
using Transferra.Core.Records;
using Transferra.Tests;

namespace Transferra.Core.Tests;

/// <summary>Which declarations a hop accounts for, and which were lost with nobody speaking of them. The hop renames the columns of GRP and
/// knows a table of the same name in another schema, which it carries as it is.</summary>
public sealed class DeclarationMatchTests
{
    private static readonly Correspondence Hop = WithOtherSchema(SampleKit.LoadHop());

    private static Correspondence WithOtherSchema(Correspondence hop)
    {
        var other = new TableShape("archive.GRP", hop.From.Table("GRP")!.Columns, ["GNO"], []);
        return hop with
        {
            From = hop.From with { Tables = [.. hop.From.Tables, other] },
            To = hop.To with { Tables = [.. hop.To.Tables, other] },
        };
    }

    [Theory]
    [InlineData("index", "public.grp_title", "public.GRP", "CREATE INDEX grp_title ON public.GRP (TITLE)", null, true)]
    [InlineData("default", "\"GRP\".TITLE", "\"GRP\"", "'none'", null, true)]
    [InlineData("default", "public.GRP.TITLE", "public.GRP", "'none'", "'nobody'", true)]
    [InlineData("index", "archive.grp_title", "archive.GRP", "CREATE INDEX grp_title ON archive.GRP (TITLE)", null, false)]
    [InlineData("default", "archive.GRP.TITLE", "archive.GRP", "'none'", "'nobody'", false)]
    [InlineData("default", "other.TITLE", "other", "'none'", "'nobody'", true)] // a table that nobody knows: nothing says that it stays
    [InlineData("trigger", "archive.GRP.count", "archive.GRP", "INSERT INTO public.PART SELECT GNO", "INSERT INTO part SELECT GNO", true)]
    [InlineData("view", "public.titles", "", "SELECT TITLE FROM GRP", null, true)]
    [InlineData("view", "public.numbers", "", "SELECT 1", null, false)]
    [InlineData("sequence", "public.numbers", "", "CREATE SEQUENCE numbers", null, false)]
    public void A_declaration_is_accounted_for(string kind, string name, string of, string was, string? now, bool byHop)
    {
        var old = new MemoryStore();
        var renewed = new MemoryStore();
        old.Declared.Add(new StoreDeclaration(kind, name, of, was));
        if (now is not null) renewed.Declared.Add(new StoreDeclaration(kind, name, of, now));
        DeclarationsMatched matched = DeclarationMatch.Run(old, renewed, Hop);
        Assert.Equal(new DeclarationDifference(kind, name, was, now, byHop), Assert.Single(matched.Differences));
        Assert.Equal(byHop ? 0 : 1, matched.Lost.Count);
    }

    [Fact]
    public void What_was_of_something_that_goes_is_gone_with_it_and_nothing_of_a_namesake()
    {
        var old = new MemoryStore();
        old.Declared.Add(new StoreDeclaration("view", "public.titles", "", "SELECT TITLE FROM GRP"));
        old.Declared.Add(new StoreDeclaration("right", "VIEW public.titles SELECT clerk", "", "GRANT SELECT"));
        old.Declared.Add(new StoreDeclaration("right", "VIEW archive.titles SELECT clerk", "", "GRANT SELECT"));
        DeclarationsMatched matched = DeclarationMatch.Run(old, new MemoryStore(), Hop);
        Assert.Equal("VIEW archive.titles SELECT clerk", Assert.Single(matched.Lost).Name);
    }
}
