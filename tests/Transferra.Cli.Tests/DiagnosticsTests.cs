using Transferra.Tests;

namespace Transferra.Cli.Tests;

public sealed class DiagnosticsTests : IDisposable
{
    private readonly TempFolder _folder = new();

    public void Dispose() => _folder.Dispose();

    private static Exception Thrown()
    {
        try
        {
            try { throw new InvalidOperationException("duplicate entry 'Miller, 4711 pounds' for the password hunter2"); }
            catch (InvalidOperationException cause) { throw new ArgumentException("salary of Miller", cause); }
        }
        catch (ArgumentException error) { return error; }
    }

    [Fact]
    public void What_nobody_foresaw_is_written_by_its_kind_and_place_and_not_by_its_words()
    {
        Directory.CreateDirectory(_folder["transferra"]);
        string log = new Diagnostics(_folder.Path, "check").Write("QIH check", Thrown())!;
        string text = File.ReadAllText(log);
        Assert.Contains("System.ArgumentException", text, StringComparison.Ordinal);
        Assert.Contains("caused by System.InvalidOperationException", text, StringComparison.Ordinal);
        Assert.Contains(nameof(Thrown), text, StringComparison.Ordinal);
        foreach (string secret in (string[])["Miller", "4711", "hunter2", "salary"])
            Assert.DoesNotContain(secret, text, StringComparison.Ordinal);
    }

    [Fact]
    public void Where_it_cannot_be_written_nothing_else_goes_wrong()
    {
        Assert.Null(new Diagnostics(_folder.Path, "check").Write("QIH check", Thrown())); // nothing was begun in this office
        Assert.Empty(Directory.GetFileSystemEntries(_folder.Path));
        Directory.CreateDirectory(_folder["transferra"]);
        File.WriteAllText(_folder["transferra/diagnostic"], "in the way");
        Assert.Null(new Diagnostics(_folder.Path, "check").Write("QIH check", Thrown()));
    }
}
