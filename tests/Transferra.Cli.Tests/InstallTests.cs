using System.Diagnostics;
using Transferra.Tests;

namespace Transferra.Cli.Tests;

/// <summary>What install.sh refuses, puts in place and leaves as it is, with a stand-in for the compiler. Whether the program of the real
/// one works is tried by ./test.sh --native.</summary>
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

    private static Called Install(params string[] arguments) => InstallWith("", arguments);

    // With a program called dotnet before all others, when one is given.
    private static Called InstallWith(string tools, params string[] arguments)
    {
        var start = new ProcessStartInfo("bash", [Script, .. arguments]) { RedirectStandardOutput = true, RedirectStandardError = true };
        if (tools.Length > 0) start.Environment["PATH"] = $"{tools}:{Environment.GetEnvironmentVariable("PATH")}";
        return BuiltProgram.Wait(Process.Start(start)!);
    }

    private void Compiler(string version, string ending = "") => TempFolder.Shell(_folder.Path, $$"""
        mkdir -p tools && cat > tools/dotnet <<'END' && chmod +x tools/dotnet
        [ "$1" = publish ] || exit 0
        echo "$*" >> "$(dirname "$0")/asked"
        while [ "$1" != -o ]; do shift; done
        printf '#!/bin/sh\necho {{version}}\n' > "$2/transferra"; chmod +x "$2/transferra"; touch "$2/libe_sqlite3.so" "$2/a.xml"
        {{ending}}
        END
        """);

    [Fact]
    public void A_new_one_takes_the_place_of_an_old_one_and_a_build_that_fails_leaves_it()
    {
        string to = _folder["sub/program"], tools = _folder["tools"];
        Compiler("1.0");
        InstallWith(tools, "--to", to).Expect(0).Says("Installed:", "1.0");
        Compiler("2.0", "echo no memory; exit 1");
        InstallWith(tools, "--to", to).Expect(2).Says("no memory", "the build failed", "nothing was changed");
        Compiler("2.0", "touch \"$2/left-over\"");
        InstallWith(tools, "--to", to).Expect(2).Says("other files than it should", "left-over");
        Assert.Contains("1.0", File.ReadAllText(Path.Combine(to, "transferra")), StringComparison.Ordinal);
        Compiler("2.0");
        InstallWith(tools, "--to", to).Expect(0).Says("2.0");
        Assert.Equal(["program"], Directory.EnumerateFileSystemEntries(_folder["sub"]).Select(Path.GetFileName));
        Assert.Equal(["libe_sqlite3.so", "transferra"], Directory.EnumerateFileSystemEntries(to).Select(Path.GetFileName).Order());
    }

    // The tests run where processors are younger than ten years.
    [Fact]
    public void What_only_this_machine_may_have_is_used_only_for_it()
    {
        Compiler("1.0");
        InstallWith(_folder["tools"], "--to", _folder["program"]).Expect(0);
        Assert.DoesNotContain("IlcInstructionSet", File.ReadAllText(_folder["tools/asked"]), StringComparison.Ordinal);
        InstallWith(_folder["tools"], "--to", _folder["program"], "--for-this-machine").Expect(0);
        Assert.Contains("IlcInstructionSet", File.ReadAllText(_folder["tools/asked"]), StringComparison.Ordinal);
    }

    [Fact]
    public void It_installs_into_no_folder_that_holds_something_else()
    {
        File.WriteAllText(_folder["letters.txt"], "Dear Sir");
        Install("--to", _folder.Path).Expect(2).Says("something else than Transferra", "nothing was changed");
        // A program of that name is not enough: the sources of this one have a file that is called so.
        File.WriteAllText(_folder["transferra"], "#!/bin/sh");
        Install("--to", _folder.Path).Expect(2).Says("something else than Transferra", "nothing was changed");
        Install("--to", _folder["letters.txt"]).Expect(2).Says("something else than Transferra");
        Install("--to", Path.GetDirectoryName(Script)!).Expect(2).Says("something else than Transferra");
        Assert.Equal(["letters.txt", "transferra"], Directory.EnumerateFileSystemEntries(_folder.Path).Select(Path.GetFileName).Order());
    }

    [Theory]
    [InlineData("--to")]
    [InlineData("--to", "one", "two")]
    [InlineData("--to", "--for-this-machine")]
    [InlineData("--to", "one", "--for-this-machine", "two")]
    [InlineData("--into", "x")]
    public void What_it_does_not_know_is_refused(params string[] arguments) => Install(arguments).Expect(2).Says("install.sh: ");
}
