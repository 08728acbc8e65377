using System.Diagnostics;
using Transferra.Tests;

namespace Transferra.Cli.Tests;

/// <summary>What install.sh refuses before it builds anything; that what it makes works is tried by ./test.sh --native.</summary>
public sealed class InstallTests : IDisposable
{
    private readonly TempFolder _folder = new();

    public void Dispose() => _folder.Dispose();

    private static string Script
    {
        get
        {
            string folder = AppContext.BaseDirectory;
            while (!File.Exists(Path.Combine(folder, "install.sh"))) folder = Path.GetDirectoryName(folder)!;
            return Path.Combine(folder, "install.sh");
        }
    }

    private static Called Install(params string[] arguments) => BuiltProgram.Wait(Process.Start(new ProcessStartInfo("bash",
        [Script, .. arguments])
    { RedirectStandardOutput = true, RedirectStandardError = true })!);

    [Fact]
    public void It_installs_into_no_folder_that_holds_something_else()
    {
        File.WriteAllText(_folder["letters.txt"], "Dear Sir");
        Install("--to", _folder.Path).Expect(2).Says("holds no Transferra", "nothing was changed");
        Assert.Equal(["letters.txt"], Directory.EnumerateFileSystemEntries(_folder.Path).Select(Path.GetFileName));
    }

    [Theory]
    [InlineData("--to")]
    [InlineData("--to", "one", "two")]
    [InlineData("--into", "x")]
    public void What_it_does_not_know_is_refused(params string[] arguments) => Install(arguments).Expect(2).Says("install.sh: ");
}
