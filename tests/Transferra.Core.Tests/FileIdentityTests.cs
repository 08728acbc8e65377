using Transferra.Core.Machine;
using Transferra.Tests;

namespace Transferra.Core.Tests;

public sealed class FileIdentityTests : IDisposable
{
    private readonly TempFolder _folder = new();

    public void Dispose() => _folder.Dispose();

    [Theory]
    [InlineData("there/file", "there/file")]
    [InlineData("to-file", "there/file")]
    [InlineData("to-folder/file", "there/file")]
    [InlineData("to-folder/missing", "there/missing")]
    [InlineData("to-missing", "there/missing")] // a store that is set aside at the moment
    [InlineData("to-folder/up", "there/missing")] // relative to where the link really lies
    [InlineData("twice", "there/missing")]
    [InlineData("to-missing/", "there/missing")]
    [InlineData("missing/below", "missing/below")]
    [InlineData("to-missing/below", "there/missing/below")]
    public void A_path_is_followed_to_where_it_leads_whether_or_not_something_is_there(string path, string leads)
    {
        Directory.CreateDirectory(_folder["there"]);
        File.WriteAllText(_folder["there/file"], "");
        foreach ((string link, string target) in ((string, string)[])[("to-file", "there/file"), ("to-folder", _folder["there"]),
            ("to-missing", "there/missing"), ("there/up", "../there/missing"), ("twice", "to-missing")])
            File.CreateSymbolicLink(_folder[link], target);
        Assert.Equal(FileIdentity.RealPath(_folder.Path) + "/" + leads, FileIdentity.Followed(_folder.Path + "/" + path));
    }

    [Fact]
    public void A_loop_of_links_ends()
    {
        File.CreateSymbolicLink(_folder["a"], "b");
        File.CreateSymbolicLink(_folder["b"], "a");
        Assert.Contains(Path.GetFileName(FileIdentity.Followed(_folder["a"])), (string[])["a", "b"]);
    }
}
