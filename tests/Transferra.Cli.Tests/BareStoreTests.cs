using System.Text.Json;
using Transferra.Core.Records;
using Transferra.Tests;

namespace Transferra.Cli.Tests;

/// <summary>Looking at, checking, backing up and restoring a store that nobody has described, where there is no office.</summary>
public sealed class BareStoreTests : IDisposable
{
    private readonly OddOffice _office = new();
    private readonly TestServers _servers = new();

    public void Dispose()
    {
        _office.Dispose();
        _servers.Dispose();
    }

    // A folder without an office; names that begin with "./" are below it.
    private Called Run(params string[] arguments) => BuiltProgram.Run(Directory.CreateDirectory(_office["elsewhere"]).FullName,
        [.. arguments.Select(argument => argument.StartsWith("./", StringComparison.Ordinal) ? _office["elsewhere" + argument[1..]]
            : argument)]);

    private (StoreAddress Store, string Place) Store(string engine)
    {
        Directory.CreateDirectory(_office["stores"]);
        StoreAddress store = StoreAddress.ServerEngines.Contains(engine) ? _servers.Database(engine, "books")
            : new StoreAddress(engine, _office["stores/old books" + (engine == "sqlite" ? ".db" : "")]);
        OddOffice.Fill(store, "A", 50);
        return (store, store.IsOnServer ? OddOffice.ServerYaml(store) : store.Path);
    }

    [Theory]
    [InlineData("sqlite")]
    [InlineData("dbf")]
    [InlineData("json-lines")]
    [InlineData("postgresql")]
    [InlineData("mariadb")]
    [InlineData("firebird")]
    public void Any_store_is_surveyed_checked_backed_up_and_restored_without_a_kit(string engine)
    {
        (StoreAddress store, string place) = Store(engine);
        Run("survey", "--store", place).Expect(0).Says("data version 1 by the record DATA of VER", "ITEM", "GRP").SaysNot("no kit");
        Run("check", "--store", place).Expect(0).Says("without a kit", "in 3 tables", "Nothing found.");
        Assert.Empty(Directory.EnumerateFileSystemEntries(_office["elsewhere"])); // looking leaves nothing behind

        JsonElement backup = Run("backup", "--store", place, "--to", "./sets", "--json").Expect(0).Json.GetProperty("result")[0];
        string set = backup.GetProperty("sets")[0].GetProperty("path").GetString()!;
        Assert.Contains("_no-kit_v1_", set, StringComparison.Ordinal);
        Run("sets", "--in", "./sets").Expect(0).Says(Path.GetFileName(set));
        Run("sets", "--in", "./sets", "--prove").Expect(0).Says("Whole: ");
        // The set is looked at as the store is.
        Run("survey", "--store", set).Says("ITEM", "data version 1");
        Run("check", "--store", set).Expect(0).Says("Nothing found.");
        Run("restore", "--set", set, "--to", "./table", "--only", "table:item").Expect(0);
        Assert.Equal(51, File.ReadAllLines(Directory.EnumerateFiles(_office["elsewhere/table"], "*.csv").Single()).Length);

        string back = "./back/store/" + store.Name;
        if (store.IsOnServer)
        {
            StoreAddress restored = _servers.Database(engine, "back");
            ServerAddress server = restored.Server!;
            Run("restore", "--set", set, "--database", restored.Path, "--host", server.Host, "--port",
                FormattableString.Invariant($"{server.Port}"), "--user", server.User, "--password-file", server.PasswordFile!)
                .Expect(0).Says("every record is as backed up");
            back = OddOffice.ServerYaml(restored);
        }
        else Run("restore", "--set", set, "--to", "./back").Expect(0).Says("every byte and every record is as backed up");
        Run("match", "--old", place, "--new", back).Expect(0).Says("Proved: both hold the same");
        Assert.Empty(Directory.EnumerateFileSystemEntries(_office["elsewhere"], ".*")); // nor does unpacking
    }

    [Fact]
    public void What_the_store_declares_is_checked_and_people_are_not_shown()
    {
        string store = _office["people.db"];
        DemoFolder.Execute(store, """
            PRAGMA foreign_keys = OFF;
            CREATE TABLE branch (no INTEGER PRIMARY KEY, label VARCHAR(10));
            CREATE TABLE staff (no INTEGER PRIMARY KEY, surname VARCHAR(20), branch INTEGER REFERENCES branch (no), hired DATE);
            INSERT INTO branch VALUES (1, 'North');
            INSERT INTO staff VALUES (1, 'Crotchet', 1, '2020-01-01'), (2, 'Minim', 9, '2020-13-41'), (3, CAST(X'4D81' AS TEXT), 1, NULL);
            """);
        Directory.CreateDirectory(_office["elsewhere"]);
        IReadOnlyDictionary<string, string> before = TempFolder.Signature(_office.Path);
        Called called = Run("check", "--store", store).Expect(1).Says("points to no record of branch", "hired", "--encoding NAME");
        called.SaysNot("Crotchet").SaysNot("Minim");
        Run("check", "--store", store, "--encoding", "ibm850").Expect(1).SaysNot("code page");
        // Of another form the same is found.
        Run("check", "--store", store, "--sheet", "./found.xlsx").Says("Written: ");
        Assert.Equal(before, TempFolder.Signature(_office.Path).Where(file => !file.Key.Contains("found.xlsx", StringComparison.Ordinal))
            .ToDictionary());
        // A damaged one is told, too.
        using (FileStream file = File.OpenWrite(store))
        {
            file.Position = 4096;
            file.Write(new byte[4096]);
        }
        Run("check", "--store", store).Expect(1).Says("the engine's own check complains");
    }

    [Fact]
    public void Documents_go_along_and_a_second_set_goes_beside_the_first()
    {
        (_, string place) = Store("sqlite");
        _office.Write("letters/one.txt", "Dear all");
        string[] backup = ["backup", "--store", place, "--to", "./sets", "--documents", _office["letters"]];
        Run(backup).Expect(0).Says("1 of 1");
        Run(backup).Expect(0);
        string[] sets = Directory.GetFiles(_office["elsewhere/sets"], "*.tar");
        Assert.Equal(2, sets.Length);
        Run("restore", "--set", sets[0], "--to", "./back").Expect(0);
        Assert.Equal("Dear all", File.ReadAllText(_office["elsewhere/back/documents/0/one.txt"]));
        // Sets with one number belong to one office, which here is the folder they lie in.
        Run("sets", "--in", "./sets").Expect(0).SaysNot("of another office");
    }

    [Theory]
    [InlineData("check A --store ./x.db", "a company and --store are two things")]
    [InlineData("check --store ./nowhere.db", "nowhere.db is not there")]
    [InlineData("check --store ./x.db --mend", "--mend and --salvage need an office")]
    [InlineData("check --encoding ibm850", "--encoding belongs to --store")]
    [InlineData("check --store ./x.db --encoding klingon", "\"klingon\" is not a known code page")]
    [InlineData("survey --store ./x.db --write", "--write adds to office.yaml")]
    [InlineData("backup --store ./x.db", "--store needs a folder for its sets")]
    [InlineData("backup --to ./sets", "--to and --documents belong to --store")]
    [InlineData("backup --store ./x.db --to ./sets --documents nowhere", "there is no folder nowhere")]
    [InlineData("backup --store ./x.db --to ./d/sets --documents ./d", "lies in")]
    [InlineData("sets --in ./nowhere", "there is no folder")]
    [InlineData("sets --in ./. --heal", "--in lists and proves")]
    [InlineData("sets --prove", "there is no office.yaml")]
    public void What_does_not_go_together_is_refused_and_nothing_is_left(string typed, string words)
    {
        Directory.CreateDirectory(_office["elsewhere"]);
        DemoFolder.Execute(_office["elsewhere/x.db"], "CREATE TABLE t (a TEXT)");
        if (typed.Contains("./d", StringComparison.Ordinal)) Directory.CreateDirectory(_office["elsewhere/d"]);
        Run(typed.Split(' ')).Expect(2).Says(words);
        Assert.Equal(["x.db"], Directory.EnumerateFileSystemEntries(_office["elsewhere"]).Select(Path.GetFileName).Where(name =>
            name != "d"));
    }
}
