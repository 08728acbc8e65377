using Transferra.Core.Records;
using Transferra.Tests;

namespace Transferra.Cli.Tests;

/// <summary>The office's own files go to the new program's place, and back.</summary>
public sealed class CarryFilesTests : IDisposable
{
    private readonly OddOffice _office = new();

    public void Dispose() => _office.Dispose();

    private StoreAddress Company(string files = "[\"*.ini\", pictures/*.png]", string to = "wages-9")
    {
        StoreAddress store = _office.Add("A", "sqlite", "data/a.db").Store;
        _office.Companies[0] = _office.Companies[0] with { More = [$"carry: [{{from: wages-8, to: {to}, files: {files}}}]"] };
        foreach ((string name, string content) in ((string, string)[])[("wages-8/wages.ini", "[slips]\nlogo=ours"),
            ("wages-8/lists/night.ini", "jobs"), ("wages-8/pictures/ours.png", "a picture"), ("wages-8/pictures/other.bmp", "not this"),
            ("wages-8/wages.exe", "program 8"), ("wages-9/wages.ini", "[slips]\nlogo=shipped"), ("wages-9/wages.exe", "program 9"),
            ("wages-9/lists/shipped.txt", "shipped")]) _office.Write(name, content);
        File.SetUnixFileMode(_office["wages-8/wages.ini"], UnixFileMode.UserRead | UnixFileMode.UserWrite | UnixFileMode.GroupRead);
        _office.Ready();
        return store;
    }

    [Fact]
    public void They_are_carried_by_list_and_pattern_and_taken_back_with_all_the_rest()
    {
        Company();
        IReadOnlyDictionary<string, string> before = _office.Signature("wages-9"), old = _office.Signature("wages-8");
        _office.Run("ready").Says("files to carry", "3 from ", "there already, and overwritten with a copy kept: 1 (wages.ini)");
        _office.Upgrade().Expect(0).Says("Files carried: 3, of which over others: 1 (copies of those are in ", "A through 2");
        Assert.Equal("[slips]\nlogo=ours", File.ReadAllText(_office["wages-9/wages.ini"]));
        Assert.Equal(UnixFileMode.UserRead | UnixFileMode.UserWrite | UnixFileMode.GroupRead,
            File.GetUnixFileMode(_office["wages-9/wages.ini"]));
        Assert.Equal("jobs", File.ReadAllText(_office["wages-9/lists/night.ini"]));
        Assert.Equal("a picture", File.ReadAllText(_office["wages-9/pictures/ours.png"]));
        Assert.Equal("program 9", File.ReadAllText(_office["wages-9/wages.exe"]));
        Assert.False(File.Exists(_office["wages-9/pictures/other.bmp"]));
        Assert.Equal(old, _office.Signature("wages-8"));
        _office.Run("signoff").Expect(0).Says("files carried: 3");
        File.WriteAllText(_office["wages-9/pictures/ours.png"], "worked on since");
        _office.Run("undo", "--yes", "A").Expect(1).Says("carried files taken back: 2; changed since, and left as they are: ");
        Assert.Equal("[slips]\nlogo=shipped", File.ReadAllText(_office["wages-9/wages.ini"]));
        Assert.Equal("worked on since", File.ReadAllText(_office["wages-9/pictures/ours.png"]));
        IReadOnlyDictionary<string, string> after = _office.Signature("wages-9");
        Assert.All(before, file => Assert.Equal(file.Value, after[file.Key]));
    }

    [Fact]
    public void Killed_at_any_operation_they_are_as_before_or_as_carried()
    {
        int killed = 0;
        for (int n = 60; ; n += Seeds.IsSoak ? 1 : 37)
        {
            using var office = new CarryFilesTests();
            office.Company();
            IReadOnlyDictionary<string, string> before = Files(office);
            if (BuiltProgram.RunUntil(n, office._office.Path, "upgrade", "--yes", "A").ExitCode != 137) break;
            killed++;
            if (killed % 2 == 0) office._office.Run("upgrade", "--resume");
            office._office.Run("undo", "--yes", "A");
            Assert.Equal(before, Files(office));
        }
        Assert.InRange(killed, 3, 1000);

        // Folders that were made for them may stay.
        static IReadOnlyDictionary<string, string> Files(CarryFilesTests of) => of._office.Signature("wages-9")
            .Where(file => file.Value != "folder").ToDictionary();
    }

    [Theory]
    [InlineData("[\"*.cfg\"]", "wages-9", "no file in ", "is named like *.cfg")]
    [InlineData("[\"*.ini\"]", "wages-10", "that files are carried to is not there", "files to carry")]
    public void What_cannot_be_carried_is_told_before_the_night(string files, string to, string says, string also)
    {
        Company(files, to);
        _office.Run("ready").Expect(2).Says(says, also);
        _office.Upgrade().Expect(2).Says(says);
    }

    [Theory]
    [InlineData("carry: [{from: wages-8, to: wages-8, files: x}]", "the files are there already")]
    [InlineData("carry: [{from: wages-8, to: wages-9}]", "\"files\" says which")]
    public void Mistakes_are_told_with_their_place(string line, string says)
    {
        Company();
        _office.Companies[0] = _office.Companies[0] with { More = [line] };
        _office.WriteOffice();
        _office.Run("survey").Expect(2).Says("office.yaml:9:", says);
    }
}
