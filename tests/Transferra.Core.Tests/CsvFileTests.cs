using Transferra.Core.Machine;
using Transferra.Tests;

namespace Transferra.Core.Tests;

public sealed class CsvFileTests : IDisposable
{
    private readonly TempFolder _folder = new();

    public void Dispose() => _folder.Dispose();

    private static readonly string[] Cells = ["", " ", "plain", "a,b", "say \"so\"", "two\r\nlines", "\n", "\"", "\"\"", "ends with \r",
        "é 漢字",
        "=1+1", "+44 20", "-", "-12.50", "+3", "@x", "\tx", "'quoted", "'", "''", "'=x", "1e5", "-1e5"];

    [Fact]
    public void Whatever_a_cell_holds_it_is_read_back_as_it_was()
    {
        string path = _folder["list.csv"];
        using (var list = new CsvFile(path, ["first", "second"]))
            foreach (string cell in Cells) list.Add([cell, "end"]);
        Assert.Equal([["first", "second"], .. Cells.Select(cell => (string[])[cell, "end"])], CsvFile.Read(path));
        Assert.StartsWith("first,second\r\n,end\r\n", File.ReadAllText(path), StringComparison.Ordinal);
    }

    [Theory] // what a spreadsheet would run as a formula begins with a quote there; a number stays one
    [InlineData("=1+1", "'=1+1")]
    [InlineData("@x", "'@x")]
    [InlineData("-12.50", "-12.50")]
    [InlineData("-1e5", "'-1e5")]
    [InlineData("'x", "''x")]
    [InlineData("a,=1", "\"a,=1\"")]
    public void No_cell_is_a_formula(string cell, string written) => Assert.Equal(written, CsvFile.Line([cell]));
}
