using System.Diagnostics;
using Transferra.Core.Machine;
using Transferra.Tests;

namespace Transferra.Core.Tests;

public sealed class DiskVolumeTests : IDisposable
{
    private readonly TempFolder _folder = new();

    public void Dispose() => _folder.Dispose();

    [Fact]
    public void A_folder_is_removed_with_all_that_is_in_it_and_nothing_that_its_links_lead_to()
    {
        Directory.CreateDirectory(_folder["kept"]);
        File.WriteAllText(_folder["kept/letter"], "kept");
        Directory.CreateDirectory(_folder["gone/deep/er"]);
        File.WriteAllText(_folder["gone/deep/line\nfeed"], "");
        File.CreateSymbolicLink(_folder["gone/deep/er/link"], _folder["kept"]);
        File.CreateSymbolicLink(_folder["gone/nowhere"], "nothing");
        // Names that are not UTF-8, of a file and of a folder.
        using (Process odd = Process.Start("sh", ["-c", "cd \"$0\"; printf x > \"$(printf 'caf\\351')\"; mkdir \"$(printf 'd\\377')\"; "
            + "printf x > \"$(printf 'd\\377/caf\\351')\"", _folder["gone/deep"]])) odd.WaitForExit();
        Assert.Equal(4, Directory.GetFileSystemEntries(_folder["gone/deep"]).Length);
        var volume = new DiskVolume();
        volume.Remove(_folder["gone"]);
        volume.Remove(_folder["gone"]);
        Assert.False(Directory.Exists(_folder["gone"]));
        Assert.Equal("kept", File.ReadAllText(_folder["kept/letter"]));
    }
}
