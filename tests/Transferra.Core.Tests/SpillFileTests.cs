using Transferra.Core.Machine;

namespace Transferra.Core.Tests;

public class SpillFileTests
{
    [Theory]
    [InlineData("/mnt/large", true, false, "/mnt/large")] // whoever names one knows why
    [InlineData(null, false, false, "/tmp")]
    [InlineData(null, true, false, "/var/tmp")] // memory would go back to memory
    [InlineData("", true, false, "/var/tmp")]
    [InlineData(null, true, true, "/tmp")]
    [InlineData(null, true, null, "/tmp")]
    [InlineData(null, null, false, "/var/tmp")]
    [InlineData(null, null, null, "/tmp")]
    public void What_does_not_fit_in_memory_goes_to_a_disk_where_there_is_one(string? named, bool? tmp, bool? varTmp, string folder) =>
        Assert.Equal(folder, SpillFile.FolderFor(named, place => place == "/tmp" ? tmp : varTmp));

    [Fact]
    public void Holds_1_a_file_has_no_name_and_only_its_owner_may_read_it()
    {
        using FileStream file = SpillFile.Create(0);
        file.Write([1, 2, 3]);
        Assert.False(File.Exists(file.Name));
        Assert.Equal(UnixFileMode.UserRead | UnixFileMode.UserWrite, File.GetUnixFileMode(file.SafeFileHandle));
    }
}
