using Transferra.Core.Matching;

namespace Transferra.Core.Tests;

/// <summary>The same statement as two releases of a server write it out, and others that only look like it.</summary>
public sealed class ReleaseWritingTests
{
    [Theory]
    [InlineData("SELECT \"ITEM\".\"GNO\",\n    count(*) AS c\n   FROM public.\"ITEM\"\n  GROUP BY \"ITEM\".\"GNO\"",
        "SELECT \"GNO\",\n    count(*) AS c FROM public.\"ITEM\" GROUP BY \"GNO\"", true)]
    [InlineData("SELECT a.b FROM a", "SELECT b FROM a", true)]
    [InlineData("SELECT b FROM a", "SELECT b FROM a", true)]
    [InlineData("SELECT public.a.b", "SELECT a.b", true)]
    [InlineData("SELECT a.b FROM a, c", "SELECT c.b FROM a, c", false)]
    [InlineData("SELECT b FROM public.a", "SELECT b FROM archive.a", false)]
    [InlineData("SELECT b FROM a WHERE c > 1", "SELECT b FROM a WHERE c > 2", false)]
    [InlineData("SELECT b FROM a WHERE c > 1.5", "SELECT b FROM a WHERE c > 5", false)]
    [InlineData("SELECT 'a.b'", "SELECT 'b'", false)]
    [InlineData("SELECT 'a  b'", "SELECT 'a b'", false)]
    [InlineData("SELECT 'it''s'", "SELECT 'it''s'", true)]
    [InlineData("SELECT a, b", "SELECT b, a", false)]
    [InlineData("SELECT a", "SELECT a, b", false)]
    [InlineData("SELECT (a + b) * c", "SELECT a + b * c", false)]
    public void They_are_one(string older, string newer, bool isSame)
    {
        Assert.Equal(isSame, ReleaseWriting.IsSame(older, newer));
        Assert.Equal(isSame, ReleaseWriting.IsSame(newer, older));
    }
}
