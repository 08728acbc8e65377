using System.Diagnostics;
using Transferra.Core.Machine;
using Transferra.Tests;

namespace Transferra.Core.Tests;

public sealed class PassingFolderTests : IDisposable
{
    private const string Prefix = ".unpacked-";

    private readonly TempFolder _folder = new();
    private readonly DiskVolume _volume = new();

    public void Dispose() => _folder.Dispose();

    private PassingFolder Make() => PassingFolder.Make(_volume, _folder.Path, Prefix);

    private string[] Names => [.. Directory.EnumerateFileSystemEntries(_folder.Path).Select(path => Path.GetFileName(path)!).Order()];

    [Fact]
    public void It_goes_with_all_that_is_in_it()
    {
        using (PassingFolder one = Make())
        {
            Directory.CreateDirectory(Path.Combine(one.Path, "store"));
            File.WriteAllText(Path.Combine(one.Path, "store/books.db"), "records");
        }
        Assert.Empty(Names);
    }

    [Fact]
    public void What_a_killed_process_left_goes_when_the_next_is_made_and_what_is_in_use_stays()
    {
        string left = Directory.CreateDirectory(_folder[Prefix + "left"]).FullName,
            held = Directory.CreateDirectory(_folder[Prefix + "held"]).FullName;
        File.WriteAllText(Path.Combine(left, "books.db"), "records");
        using Process holder = Process.Start("flock", [held, "sleep", "60"]);
        try
        {
            for (int i = 0; i < 200 && IsFree(held); i++) Thread.Sleep(20);
            using PassingFolder mine = Make();
            Assert.Equal([Path.GetFileName(mine.Path), Prefix + "held"],
                Names.OrderBy(name => name.EndsWith("held", StringComparison.Ordinal)));
            using PassingFolder another = Make();
            Assert.True(Directory.Exists(mine.Path) && Directory.Exists(another.Path) && Directory.Exists(held));
        }
        finally
        {
            holder.Kill(entireProcessTree: true);
        }
    }

    private static bool IsFree(string folder)
    {
        using FolderLock? taken = FolderLock.TryTake(folder);
        return taken is not null;
    }

    [Fact]
    public void Links_files_and_folders_of_other_names_and_users_stay()
    {
        string elsewhere = Directory.CreateDirectory(_folder["books"]).FullName;
        File.WriteAllText(Path.Combine(elsewhere, "books.db"), "records");
        Directory.CreateSymbolicLink(_folder[Prefix + "link"], elsewhere);
        File.WriteAllText(_folder[Prefix + "file"], "x");
        bool isRoot = FileIdentity.EffectiveUser == 0;
        if (isRoot)
        {
            Directory.CreateDirectory(_folder[Prefix + "others"]);
            Process.Start("chown", ["nobody", _folder[Prefix + "others"]]).WaitForExit();
        }
        using (Make()) { }
        string[] stay = [Prefix + "file", Prefix + "link", .. isRoot ? [Prefix + "others"] : Array.Empty<string>(), "books"];
        Assert.Equal(stay.Order(), Names);
        Assert.True(File.Exists(Path.Combine(elsewhere, "books.db")));
    }
}
