using Transferra.Cli.Commands;
using Transferra.Core.Machine;
using Transferra.Core.Office;
using Transferra.Core.Records;
using Transferra.Core.Runs;
using Transferra.Stores;
using Transferra.Tests;

namespace Transferra.Cli.Tests;

/// <summary>The demo office with its stores on a real server, in databases of this office's own.</summary>
internal sealed class ServerOffice : IDisposable
{
    private static int _count;

    private readonly TestServers _servers = new();
    private readonly StoreOpener _stores = new();
    private readonly Dictionary<string, StoreAddress> _stored;

    public ServerOffice(string engine, bool small = false)
    {
        Engine = engine;
        Prefix = FormattableString.Invariant($"q{Environment.ProcessId}_{Interlocked.Increment(ref _count)}_");
        Files = small ? new DemoFolder(small: true) : DemoFolder.OfASixth();
        new NamedServer(engine, TestServers.Server(engine), engine == "firebird" ? TestServers.FirebirdFolder
            : null)
        { Prefix = Prefix }.Move(Files.Path, _stores);
        _stored = OfficeLoader.Load(Files.Path).Companies.ToDictionary(company => company.Code, company =>
            _servers.Known(company.NewStore));
    }

    public string Engine { get; }

    private string Prefix { get; }

    public DemoFolder Files { get; }

    public string Path => Files.Path;

    public StoreAddress Store(string company) => _stored[company];

    /// <summary>A database of this office's own that is not there yet, on a server of any engine.</summary>
    public StoreAddress Beside(string name, string engine) =>
        _servers.Known(new StoreAddress(engine, engine == "firebird" ? System.IO.Path.Combine(TestServers.FirebirdFolder,
            Prefix + name + ".fdb") : Prefix
        + name, Server: TestServers.Server(engine)));

    /// <summary>Whether a company's database is still as version 5 has it.</summary>
    public bool IsOld(string company)
    {
        using IStore store = _stores.Open(Store(company));
        return store.ReadShape().Any(table => table.Name == "SYSINFO");
    }

    /// <summary>What is in a company's database: the digest of all its tables and records.</summary>
    public string DigestOf(string company) => new StorePlaces(_stores, new DiskVolume()).DigestOf(Store(company), null,
        CancellationToken.None);

    /// <summary>The databases that runs of this office made and left.</summary>
    public IReadOnlyList<string> Leftovers()
    {
        if (Engine == "firebird") return [.. Directory.GetFiles(TestServers.FirebirdFolder, "transferra-*" + Prefix + "*")];
        StoreAddress server = Store("QIH") with { Path = Engine == "postgresql" ? "postgres" : "" };
        // An underscore of its own stands for any character: without the escape those of the office 21 were the office 2's.
        string own = Prefix.Replace("_", "\\_", StringComparison.Ordinal);
        string list = Engine == "postgresql"
            ? $"SELECT coalesce(string_agg(datname, ','), '') FROM pg_database WHERE datname LIKE 'transferra-%{own}%'"
            : "SELECT coalesce(group_concat(schema_name), '') FROM information_schema.schemata WHERE schema_name LIKE "
                + $"'transferra-%{own}%'";
        return TestServers.Ask(server, list)!.Split(',', StringSplitOptions.RemoveEmptyEntries);
    }

    public string? Ask(string company, string table, string column, string where)
    {
        string quote = Engine == "mariadb" ? "`" : "\"";
        return TestServers.Ask(Store(company),
            $"SELECT {quote}{column}{quote} FROM {quote}{table}{quote} WHERE {where.Replace("\"", quote, StringComparison.Ordinal)}");
    }

    public void Dispose()
    {
        foreach (string left in Leftovers()) _servers.Known(Store("QIH") with { Path = left });
        _servers.Dispose();
        Files.Dispose();
    }
}

public abstract class ServerUpgradeTests(string engine)
{
    [Fact]
    public void The_demo_goes_through_on_the_server_and_back_again()
    {
        using var office = new ServerOffice(engine);
        string before = office.DigestOf("QIH");
        // Other tests have databases on this server, which office.yaml does not name.
        BuiltProgram.Run(office.Path, "survey").Says($"({engine} at 127.0.0.1:", "version 5 by SYSINFO.VAL where KEYNAME = 'DATAVER': 5");
        Called upgraded = BuiltProgram.Run(office.Path, "upgrade", "--yes", "QIH", "--yes", "QWS", "--yes", "QST").Expect(1);
        upgraded.Says("QIH through 6", "QWS stopped 5", "QST through 4", "31/02/23", "12,5O", "4999", "V001777",
            "Balance by account: all 4 lines agree, by the engines' own sums");
        Assert.DoesNotContain(upgraded.Out.Split('\n'), line => line.Length > 100);
        Assert.Equal("6", office.Ask("QIH", "setting", "value", "\"name\" = 'DATAVER'"));
        Assert.Equal("5", office.Ask("QWS", "SYSINFO", "VAL", "\"KEYNAME\" = 'DATAVER'"));
        // The old one is set aside under another name; the stopped company's staged one is gone.
        Assert.Contains("old-v5", Assert.Single(office.Leftovers()), StringComparison.Ordinal);
        BuiltProgram.Run(office.Path, "match", "QIH").Expect(0).Says("Proved: the new store of QIH holds what the old one gives");
        BuiltProgram.Run(office.Path, "undo", "--yes", "QIH", "--yes", "QWS", "--yes", "QST").Expect(0)
            .Says("Undone: the office is where it was before");
        Assert.Equal(before, office.DigestOf("QIH"));
        Assert.Empty(office.Leftovers());
        Assert.True(Directory.Exists(office.Files["data/QST/stock"]));
        BuiltProgram.Run(office.Path, "survey").Says("version 5 by SYSINFO.VAL", "version 3 by VERSION.VAL");
        Restored(office, before);
    }

    private void Restored(ServerOffice office, string before)
    {
        // What somebody did since the backup is set aside by the restore, and comes back with the undo.
        string quote = engine == "mariadb" ? "`" : "\"";
        TestServers.Execute(office.Store("QIH"), $"DELETE FROM {quote}SUPP{quote}");
        string after = office.DigestOf("QIH");
        Assert.NotEqual(before, after);
        BuiltProgram.Run(office.Path, "restore", "QIH", "--to", office.Files["elsewhere"]).Expect(0)
            .Says("every byte and every record is as backed up");
        Assert.Contains(Directory.GetFiles(office.Files["elsewhere"], "store.json", SearchOption.AllDirectories), _ => true);
        BuiltProgram.Run(office.Path, "restore", "QIH", "--yes", "QIH").Expect(0).Says("The company is as in the set", "present");
        Assert.Equal("10", TestServers.Ask(office.Store("QIH"), $"SELECT COUNT(*) FROM {quote}SUPP{quote}"));
        BuiltProgram.Run(office.Path, "check", "QIH").Expect(1).Says("Read as version 5");
        BuiltProgram.Run(office.Path, "undo", "--yes", "QIH").Expect(0);
        Assert.Equal(after, office.DigestOf("QIH"));
        Assert.Empty(office.Leftovers());
    }

    [Fact]
    public void A_set_is_restored_into_a_new_database_on_the_same_server_and_on_one_of_another_engine()
    {
        using var office = new ServerOffice(engine, small: true);
        string quote = engine == "mariadb" ? "`" : "\"";
        TestServers.Execute(office.Store("QIH"),
            $"CREATE VIEW {quote}ACCT_NAMES{quote} AS SELECT {quote}ANAME{quote} FROM {quote}ACCTS{quote}");
        BuiltProgram.Run(office.Path, "backup", "QIH").Expect(0);
        StoreAddress again = office.Beside("again", engine);
        BuiltProgram.Run(office.Path, "restore", "QIH", "--database", again.Path).Expect(0).Says("every record is as backed up");
        string? there = TestServers.Ask(again, $"SELECT count(*) FROM {quote}ACCT_NAMES{quote}");
        Assert.Equal(TestServers.Ask(office.Store("QIH"), $"SELECT count(*) FROM {quote}ACCTS{quote}"), there);
        BuiltProgram.Run(office.Path, "restore", "QIH", "--database", again.Path).Expect(2).Says("is there already");
        string other = engine == "postgresql" ? "mariadb" : "postgresql";
        StoreAddress elsewhere = office.Beside("elsewhere", other);
        ServerAddress server = elsewhere.Server!;
        BuiltProgram.Run(office.Path, "restore", "QIH", "--database", elsewhere.Path, "--engine", other, "--host", server.Host, "--port",
            server.Port.ToString(System.Globalization.CultureInfo.InvariantCulture), "--user", server.User, "--password-file",
                server.PasswordFile!)
            .Expect(1).Says("every record is as backed up", "not brought back: view ACCT_NAMES");
        BuiltProgram.Run(office.Path, "restore", "QIH", "--engine", other).Expect(2).Says("--database NAME");
        Assert.Empty(office.Leftovers());
    }

    [Fact]
    public void A_connected_program_a_stray_database_and_a_changed_record_stop_an_upgrade()
    {
        using var office = new ServerOffice(engine, small: true);
        office.Files.Edit("office.yaml", "grace: 10 s", "grace: 0 s");
        using (TestServers.Connect(office.Store("QIH")))
            BuiltProgram.Run(office.Path, "upgrade", "QIH", "--yes", "QIH").Expect(2).Says("1 session still in: QIH");
        StoreAddress inTheWay = office.Store("QST");
        using (IStoreBuilder builder = new StoreOpener().Create(inTheWay))
        {
            builder.CreateTable(new TableShape("t", [new("a", FieldType.Integer)], [], []));
            builder.Complete(new Dictionary<string, string>());
        }
        BuiltProgram.Run(office.Path, "upgrade", "QST", "--yes", "QST").Expect(2).Says("QST, place of the new store:", "is there already");
        office.Files.Edit("office.yaml", "password-file: ", "password-file: /nowhere");
        BuiltProgram.Run(office.Path, "survey").Says("the password file /nowhere");
    }

    [Fact]
    public void Killed_at_any_time_it_can_be_resumed_or_undone()
    {
        var random = new Random(2611);
        bool soak = Seeds.IsSoak;
        // A run that ended before it was killed is followed by one that is killed sooner, as machines differ.
        int wanted = soak ? 40 : 3, killed = 0, within = 2200;
        for (int attempt = 0; killed < wanted && attempt < 4 * wanted; attempt++)
        {
            using var office = new ServerOffice(engine, small: true);
            string before = office.DigestOf("QIH");
            if (!BuiltProgram.RunFor(TimeSpan.FromMilliseconds(300 + random.Next(within)), office.Path, Killed.Upgrade))
            {
                within = Math.Max(100, within * 2 / 3);
                continue;
            }
            bool thenUndo = killed++ % 2 == 0;
            Killed.Recover(office.Files, thenUndo);
            if (thenUndo || office.IsOld("QIH")) Assert.Equal(before, office.DigestOf("QIH"));
            if (thenUndo) Assert.Empty(office.Leftovers());
            else if (office.Leftovers().Count > 0) BuiltProgram.Run(office.Path, "match", "QIH").Expect(0);
        }
        Assert.Equal(wanted, killed);
    }

    [Theory]
    [InlineData(false)]
    [InlineData(true)]
    public void Broken_off_between_its_renames_a_change_over_is_finished_or_taken_back(bool thenBack)
    {
        using var servers = new TestServers();
        var places = new StorePlaces(new StoreOpener(), new DiskVolume());
        StoreAddress here = servers.Database(engine, "here"), aside = servers.Database(engine, "aside"),
            staged = servers.Database(engine, "staged");
        Made(here, 1);
        Made(staged, 2);
        var swap = new Swap(places, [new Move(here, aside), new Move(staged, here)]);
        Assert.Equal(0, swap.DoneMoves());
        places.Rename(here, aside);
        Assert.Equal(1, swap.DoneMoves());
        if (thenBack) swap.Back();
        else swap.Forward();
        Assert.Equal((thenBack ? 0 : 2, thenBack ? 1 : 2), (swap.DoneMoves(), Count(here)));
        Assert.Equal(thenBack ? 2 : 1, Count(thenBack ? staged : aside));

        static void Made(StoreAddress address, int rows)
        {
            var table = new TableShape("t", [new("a", FieldType.Integer, true)], ["a"], []);
            using IStoreBuilder builder = new StoreOpener().Create(address);
            builder.CreateTable(table);
            var batch = new RecordBatch(table.Columns);
            for (int row = 0; row < rows; row++) ((LongVector)batch.Vectors[0]).Append(row);
            builder.Write([new TableOutput(table, batch.Vectors)], [.. Enumerable.Range(0, rows)], []);
            builder.Complete(new Dictionary<string, string>());
        }

        static long Count(StoreAddress address)
        {
            using IStore store = new StoreOpener().Open(address);
            return store.CountRows("t");
        }
    }
}

[Collection("postgresql")]
public sealed class PostgresqlUpgradeTests() : ServerUpgradeTests("postgresql");

[Collection("mariadb")]
public sealed class MariadbUpgradeTests() : ServerUpgradeTests("mariadb")
{
    [Fact]
    public void A_place_that_was_made_and_holds_nothing_goes_when_the_change_over_is_taken_back()
    {
        using var servers = new TestServers();
        StoreAddress here = servers.Made("mariadb", "here", "CREATE TABLE t (a INT)"), staged = servers.Made("mariadb", "staged",
            "CREATE TABLE t (a INT)");
        StoreAddress aside = servers.Known(here.Beside("", "7", "old-v5"));
        TestServers.Execute(here, $"CREATE DATABASE `{aside.Path}`"); // and there it was interrupted
        var swap = new Swap(new StorePlaces(new StoreOpener(), new DiskVolume()), [new Move(here, aside), new Move(staged, here)]);
        swap.Back();
        Assert.Equal("0", TestServers.Ask(here, $"SELECT COUNT(*) FROM information_schema.schemata WHERE schema_name = '{aside.Path}'"));
        Assert.Equal(0, swap.DoneMoves());
    }
}

[Collection("firebird")]
public sealed class FirebirdUpgradeTests() : ServerUpgradeTests("firebird")
{
    // Daily on the engine that is quicker by far; in the soak run on this one.
    [Fact]
    public void The_demo_command_moves_the_old_ledgers_to_a_server_itself()
    {
        using var folder = new TempFolder();
        string engine = Seeds.IsSoak ? "firebird" : "postgresql";
        ServerAddress server = TestServers.Server(engine);
        string databases = Directory.CreateDirectory(Path.Combine(TestServers.FirebirdFolder,
            FormattableString.Invariant($"demo{Environment.ProcessId}"))).FullName;
        if (!OperatingSystem.IsWindows())
            File.SetUnixFileMode(databases,
                UnixFileMode.UserRead | UnixFileMode.UserWrite | UnixFileMode.UserExecute
                    | UnixFileMode.OtherRead | UnixFileMode.OtherWrite | UnixFileMode.OtherExecute);
        string[] options = ["--host", server.Host, "--port", server.Port.ToString(System.Globalization.CultureInfo.InvariantCulture),
            "--user", server.User, "--password-file", server.PasswordFile!],
            where = engine == "firebird" ? ["--databases", databases] : [];
        BuiltProgram.RunIn(folder.Path, ["demo", "--in", folder["office"], "--engine", engine, .. where, .. options])
            .Expect(0).Says("That is the whole job");
        BuiltProgram.RunIn(folder.Path, ["demo", "--in", folder["other"], "--engine", "paper", .. options]).Expect(2)
            .Says("there is no server engine paper");
        BuiltProgram.RunIn(folder.Path, ["demo", "--in", folder["other"], "--engine", "firebird", .. options]).Expect(2)
            .Says("Add --databases");
        BuiltProgram.RunIn(folder.Path, ["demo", "--in", folder["other"], .. options]).Expect(2).Says("no engine");
        BuiltProgram.RunIn(folder.Path, ["demo", "--in", folder["again"], "--engine", engine, .. where, .. options])
            .Expect(2).Says("is there already");
    }
}
