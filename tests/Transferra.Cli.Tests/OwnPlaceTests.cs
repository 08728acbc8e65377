using Transferra.Core.Records;
using Transferra.Tests;

namespace Transferra.Cli.Tests;

/// <summary>A converter that works only on the store's own place: a copy stands there meanwhile, the original aside. Services are turned on
/// and off for a hop.</summary>
public sealed class OwnPlaceTests : IDisposable
{
    private readonly OddOffice _office = new();
    private readonly TestServers _servers = new();

    public void Dispose()
    {
        _office.Dispose();
        _servers.Dispose();
    }

    // It knows nothing of copies: it opens what it always opens.
    private const string Converter = """
        import os, sqlite3, sys, time
        place, how = sys.argv[1], sys.argv[2]
        db = sqlite3.connect(place)
        if how == 'wal': db.execute('PRAGMA journal_mode = WAL'); db.execute('PRAGMA wal_autocheckpoint = 0')
        db.execute("ALTER TABLE ITEM ADD COLUMN NOTE TEXT DEFAULT 'new'")
        db.commit()
        if how == 'hang': open(place + '.begun', 'w').close(); time.sleep(600)
        if how == 'half': sys.exit(3)
        db.execute("UPDATE VER SET VAL = '2'")
        db.commit()
        print('all converted, service ' + (os.path.exists(os.path.dirname(sys.argv[0]) + '/on') and 'on' or 'off'))
        sys.stdout.flush()
        if how == 'wal': os._exit(0)
        """;

    private const string Service = """
        #!/bin/sh
        # a vendor's service that converts when it starts
        here=$(dirname "$(readlink -f "$0")")
        case $1 in
          start)
            touch "$here/on"
            python3 "$here/convert.py" "$2" "$3" >> "$here/service.log" 2>&1 || echo "ERROR: cannot convert" >> "$here/service.log" ;;
          stop) rm -f "$here/on" ;;
          status) [ -e "$here/on" ] || exit 3 ;;
        esac
        """;

    private void WriteKit(string hop)
    {
        _office.Write("kit/kit.yaml", "kit: odd\ntitle: Odd\nversions: [\"1\", \"2\"]\nhops: [1-to-2]\n");
        foreach (string version in (string[])["1", "2"])
            _office.Write($"kit/versions/{version}.yaml", $"version: \"{version}\"\ntold-by: [{{sql: 'SELECT VAL FROM VER', is: "
                + $"\"{version}\"}}]\n");
        _office.Write("kit/convert.py", Converter);
        _office.Write("kit/service.sh", Service);
        _office.Write("kit/hops/1-to-2.yaml", "hop: {from: \"1\", to: \"2\"}\n" + hop
            + "\ntables:\n  - {from: VER, into: {VER: {VAL: \"'2'\"}}}\n");
    }

    private StoreAddress Company(string how = "well", string more = "place: own")
    {
        StoreAddress store = _office.Add("A", "sqlite", "data of A/a.db").Store;
        WriteKit($"means:\n  program:\n    command: [/usr/bin/python3, \"{{kit}}/convert.py\", {OddOffice.Quoted(store.Path)}, {how}]\n"
            + $"    success: all converted\n{more}");
        _office.Ready();
        return store;
    }

    private string Said() => File.ReadAllText(Assert.Single(Directory.GetFiles(_office["transferra"], "program-1-2.txt",
        SearchOption.AllDirectories)));

    [Theory]
    [InlineData("well")]
    [InlineData("wal")] // what it wrote lies beside the file, and goes with it
    public void It_converts_a_copy_in_the_place_while_the_original_stands_aside(string how)
    {
        StoreAddress store = Company(how);
        IReadOnlyDictionary<string, string> before = _office.Signature("data of A");
        _office.Upgrade().Expect(0).Says("A through 2");
        Assert.Equal("5 2", DemoFolder.Ask(store.Path, "SELECT count(*) || ' ' || (SELECT VAL FROM VER) FROM ITEM WHERE NOTE = 'new'"));
        _office.Run("match").Expect(0).Says("Proved: the new store of A", "the column NOTE of ITEM");
        _office.Run("undo", "--yes", "A").Expect(0);
        Assert.Equal(before, _office.Signature("data of A"));
    }

    [Fact]
    public void What_it_leaves_half_done_is_thrown_away_and_the_original_is_back()
    {
        Company("half");
        IReadOnlyDictionary<string, string> before = _office.Signature("data of A");
        _office.Upgrade().Expect(1).Says("ended with exit code 3", "taken back", "Open: everything that was closed is as it was");
        Assert.Equal(before, _office.Signature("data of A"));
    }

    [Theory]
    [InlineData(true)]
    [InlineData(false)]
    public void Killed_at_work_in_the_place_it_is_taken_back_or_begins_with_the_original_again(bool thenUndo)
    {
        StoreAddress store = Company("hang");
        IReadOnlyDictionary<string, string> before = _office.Signature("data of A");
        using (System.Diagnostics.Process process = BuiltProgram.Started(_office.Path, "upgrade", "--yes", "A"))
        {
            process.BeginErrorReadLine();
            process.BeginOutputReadLine();
            var clock = System.Diagnostics.Stopwatch.StartNew();
            while (!File.Exists(store.Path + ".begun") && clock.Elapsed.TotalSeconds < 60) Thread.Sleep(50);
            process.Kill();
            process.WaitForExit();
        }
        Thread.Sleep(1000); // what it started ends with it
        File.Delete(store.Path + ".begun");
        Assert.Equal(before["a.db"], Assert.Single(_office.Signature("data of A"), file => file.Key.Contains("/lent-v1/",
            StringComparison.Ordinal)).Value);
        string hop = File.ReadAllText(_office["kit/hops/1-to-2.yaml"]);
        File.WriteAllText(_office["kit/hops/1-to-2.yaml"], hop.Replace(", hang]", ", well]", StringComparison.Ordinal));
        if (!thenUndo)
        {
            _office.Run("upgrade", "--resume").Expect(0).Says("A through 2");
            _office.Run("match").Expect(0).Says("Proved: the new store of A");
        }
        _office.Run("undo", "--yes", "A").Expect(0);
        _office.Run("reopen");
        Assert.Equal(before, _office.Signature("data of A"));
    }

    [Fact]
    public void Killed_at_any_operation_the_original_is_never_lost()
    {
        int killed = 0;
        for (int n = 40; ; n += Seeds.IsSoak ? 1 : 37)
        {
            using var office = new OwnPlaceTests();
            office.Company(more: "place: own\naccount: nobody");
            office.LetThrough();
            string owner() => As("root", "stat", "-c", "%U %a", office._office["data of A"]).Out.Trim();
            (IReadOnlyDictionary<string, string> before, string owned) = (office._office.Signature("data of A"), owner());
            if (BuiltProgram.RunUntil(n, office._office.Path, "upgrade", "--yes", "A").ExitCode != 137) break;
            killed++;
            Assert.Contains(before["a.db"], office._office.Signature("data of A").Values);
            // Killed after the run, when the office is opened again, there is nothing to resume.
            if (killed % 2 == 1 && office._office.Run("upgrade", "--resume") is { ExitCode: not 2 } resumed) resumed.Expect(0);
            if (office._office.Run("undo", "--yes", "A") is { ExitCode: not 2 } undone) undone.Expect(0);
            office._office.Run("reopen");
            Assert.Equal(before, office._office.Signature("data of A"));
            Assert.Equal(owned, owner());
        }
        Assert.InRange(killed, 4, 1000);
    }

    // On servers it is the database's own name that the client is given.
    [Theory]
    [InlineData("postgresql", "psql, -w, -v, ON_ERROR_STOP=1, -h, \"{host}\", -p, \"{port}\", -U, \"{user}\", -d, NAME, -c, \"SQL\"",
        "environment: {PGPASSFILE: \"{credentials}\"}\n    credentials: \"{host}:{port}:{database}:{user}:{password}\"")]
    [InlineData("mariadb", "mariadb, \"--defaults-extra-file={credentials}\", --skip-ssl-verify-server-cert, -h, \"{host}\", -P, "
        + "\"{port}\", -u, \"{user}\", NAME, -e, \"SQL\"", "credentials: \"[client]\\npassword={password}\\n\"")]
    [InlineData("firebird", "isql-fb, -q, -b, -user, \"{user}\", -fetch, \"{credentials}\", -i, \"{kit}/to-2.sql\", "
        + "\"{host}/{port}:NAME\"", "credentials: \"{password}\\n\"")]
    public void On_a_server_the_copy_has_the_name_of_the_original_meanwhile(string engine, string command, string more)
    {
        StoreAddress store = _office.Add("A", _servers.Database(engine, "a")).Store;
        string sql = engine == "postgresql" ? "UPDATE \\\"VER\\\" SET \\\"VAL\\\" = '2'" : "UPDATE VER SET VAL = '2'";
        WriteKit($"means:\n  program:\n    command: [{command.Replace("NAME", store.Path, StringComparison.Ordinal)
            .Replace("SQL", sql, StringComparison.Ordinal)}]\n    {more}\nplace: own");
        _office.Write("kit/to-2.sql", "UPDATE VER SET VAL = '2';\nCOMMIT;\n");
        if (engine == "postgresql")
            foreach (string version in (string[])["1", "2"])
                _office.Write($"kit/versions/{version}.yaml", $"version: \"{version}\"\ntold-by: [{{sql: 'SELECT \"VAL\" FROM \"VER\"', "
                    + $"is: "
                    + $"\"{version}\"}}]\n");
        _office.Ready();
        if (engine == "firebird") _office.Run("ready", "--confirm", "A/forced-writes");
        IReadOnlyList<string> before = OddOffice.Rows(store);
        _office.Upgrade().Expect(0).Says("A through 2");
        Assert.NotEqual(before, OddOffice.Rows(store));
        _office.Run("match").Expect(0).Says("Proved: the new store of A");
        _office.Run("undo", "--yes", "A").Expect(0);
        Assert.Equal(before, OddOffice.Rows(store));
    }

    // Tries the door as somebody else first; then converts under its own account.
    private static string AsGuest(StoreAddress guest, StoreAddress other)
    {
        string host = guest.Server!.Host, port = guest.Server.Port.ToString(System.Globalization.CultureInfo.InvariantCulture);
        string Client(StoreAddress who, string sql) => guest.Engine switch
        {
            "postgresql" => $"PGPASSWORD=$(cat '{who.Server!.PasswordFile}') psql -w -v ON_ERROR_STOP=1 -h {host} -p {port} -U "
                + $"{who.Server.User} -d \"$1\" -c '{sql}'",
            "mariadb" => $"MYSQL_PWD=$(cat '{who.Server!.PasswordFile}') mariadb --skip-ssl-verify-server-cert -h {host} -P {port} -u "
                + $"{who.Server.User} \"$1\" -e '{sql}'",
            _ => $"echo '{sql}; COMMIT;' | isql-fb -q -b -user {who.Server!.User} -fetch '{who.Server.PasswordFile}' \"{host}/{port}:$1\""
        };
        string table = guest.Engine == "postgresql" ? "\"VER\"" : "VER";
        return $"#!/bin/sh\nif {Client(other, $"SELECT * FROM {table}")}; then echo somebody else is in; fi\n"
            + Client(guest, guest.Engine == "postgresql" ? "UPDATE \"VER\" SET \"VAL\" = 2" : "UPDATE VER SET VAL = 2") + " && echo done\n";
    }

    [Theory]
    [InlineData("postgresql", "own")]
    [InlineData("postgresql", "copy")]
    [InlineData("mariadb", "own")]
    [InlineData("mariadb", "copy")]
    [InlineData("firebird", "own")]
    [InlineData("firebird", "copy")]
    public void On_a_server_the_converters_account_is_let_in_to_the_copy_and_nobody_else(string engine, string place)
    {
        StoreAddress store = _office.Add("A", _servers.Database(engine, "a")).Store, guest = _servers.AsClerk(store, _office.Path),
            other = _servers.AsClerk(store, _office.Path);
        string table = engine == "postgresql" ? "\"VER\"" : "VER";
        foreach (StoreAddress clerk in (StoreAddress[])[guest, other])
            TestServers.Execute(store, engine == "mariadb" ? $"GRANT SELECT, UPDATE ON `{store.Path}`.* TO '{clerk.Server!.User}'@'%'"
                : $"GRANT SELECT, UPDATE ON {table} TO {clerk.Server!.User}");
        WriteKit($"means:\n  program:\n    command: [sh, \"{{kit}}/guest.sh\", \"{{store}}\"]\n    success: ^done\nplace: {place}\n"
            + $"account: {guest.Server!.User}");
        _office.Write("kit/guest.sh", AsGuest(guest, other));
        if (engine == "postgresql")
            foreach (string version in (string[])["1", "2"])
                _office.Write($"kit/versions/{version}.yaml", $"version: \"{version}\"\ntold-by: [{{sql: 'SELECT \"VAL\" FROM \"VER\"', "
                    + $"is: \"{version}\"}}]\n");
        _office.Ready();
        if (engine == "firebird") _office.Run("ready", "--confirm", "A/forced-writes");
        IReadOnlyList<string> before = OddOffice.Rows(store);
        _office.Upgrade().Expect(0).Says("A through 2");
        Assert.DoesNotContain("somebody else is in", Said(), StringComparison.Ordinal);
        _office.Run("match").Expect(0).Says("Proved: the new store of A");
        foreach (StoreAddress clerk in (StoreAddress[])[guest, other])
            Assert.Equal("2", TestServers.Ask(clerk, $"SELECT {(engine == "postgresql" ? "\"VAL\"" : "VAL")} FROM {table}")?.Trim());
        _office.Run("undo", "--yes", "A").Expect(0);
        Assert.Equal(before, OddOffice.Rows(store));
        Assert.Equal("1", TestServers.Ask(other, $"SELECT {(engine == "postgresql" ? "\"VAL\"" : "VAL")} FROM {table}")?.Trim());
    }

    // The folders above the office, which are nobody's matter.
    private void LetThrough()
    {
        for (string folder = _office.Path; folder != "/tmp" && folder.Length > 1; folder = Path.GetDirectoryName(folder)!)
            File.SetUnixFileMode(folder, File.GetUnixFileMode(folder) | UnixFileMode.OtherExecute);
    }

    // A user of this machine; the office's folder is shut for all others meanwhile.
    private static Called As(string user, params string[] command) => BuiltProgram.Wait(System.Diagnostics.Process.Start(
        new System.Diagnostics.ProcessStartInfo("runuser", ["-u", user, "--", .. command])
        {
            RedirectStandardInput = true,
            RedirectStandardOutput = true,
            RedirectStandardError = true
        })!);

    [Theory]
    [InlineData("own")]
    [InlineData("copy")]
    public void In_files_a_user_of_this_machine_is_let_in_to_the_copy_and_nobody_else(string place)
    {
        Assert.Equal("root", Environment.UserName); // as test.sh says
        StoreAddress store = _office.Add("A", "sqlite", "data of A/a.db").Store;
        WriteKit($"means: {{by-hand: {{steps: [\"Convert {{store}}\"]}}}}\nplace: {place}\naccount: nobody");
        _office.Ready();
        LetThrough();
        UnixFileMode mode = File.GetUnixFileMode(_office["data of A"]);
        IReadOnlyDictionary<string, string> before = _office.Signature("data of A");
        Called waits = _office.Upgrade().Expect(3).Says("A waits for you");
        string copy = place == "own" ? store.Path : Assert.Single(Directory.GetFiles(_office["data of A"], "a.db",
            SearchOption.AllDirectories), file => file.Contains("/v2/", StringComparison.Ordinal));
        const string convert = "import sqlite3, sys; db = sqlite3.connect(sys.argv[1]); "
            + "db.execute(\"UPDATE VER SET VAL = '2'\"); db.commit()";
        Assert.NotEqual(0, As("daemon", "/usr/bin/python3", "-c", convert, copy).ExitCode);
        Assert.Equal(0, As("nobody", "/usr/bin/python3", "-c", convert, copy).ExitCode);
        if (place == "own") Assert.NotEqual(0, As("nobody", "/bin/cat", Assert.Single(Directory.GetFiles(_office["data of A"], "a.db",
            SearchOption.AllDirectories), file => file.Contains("/lent-v1/", StringComparison.Ordinal))).ExitCode);
        _office.Run("upgrade", "--resume").Expect(0).Says("A through 2");
        _office.Run("match").Expect(0).Says("Proved: the new store of A");
        _office.Run("undo", "--yes", "A").Expect(0);
        Assert.Equal(before, _office.Signature("data of A"));
        Assert.Equal((mode, "root"), (File.GetUnixFileMode(_office["data of A"]), As("root", "stat", "-c", "%U", _office["data of A"])
            .Out.Trim()));
    }

    [Fact]
    public void A_person_works_on_the_copy_in_the_place_through_a_restart()
    {
        StoreAddress store = _office.Add("A", "sqlite", "data of A/a.db").Store;
        WriteKit("means: {by-hand: {steps: [\"Start the program; it opens {store}.\"]}}\nplace: own");
        _office.Ready();
        IReadOnlyDictionary<string, string> before = _office.Signature("data of A");
        _office.Upgrade().Expect(3).Says("A waits for you", "it opens " + store.Path[..20]);
        Assert.Contains(_office.Signature("data of A"), file => file.Key.Contains("/lent-v1/", StringComparison.Ordinal)
            && file.Value == before["a.db"]);
        DemoFolder.Execute(store.Path, "ALTER TABLE ITEM ADD COLUMN NOTE TEXT");
        _office.Run("upgrade", "--resume").Expect(3).Says("A waits for you");
        DemoFolder.Execute(store.Path, "UPDATE VER SET VAL = '2'");
        // As long as the program has it open, it is not taken away from under it.
        using (File.OpenRead(store.Path))
            _office.Run("upgrade", "--resume").Expect(3).Says("1 session still in");
        _office.Run("upgrade", "--resume").Expect(0).Says("A through 2");
        _office.Run("match").Expect(0).Says("Proved: the new store of A", "the column NOTE of ITEM");
        _office.Run("undo", "--yes", "A").Expect(0);
        Assert.Equal(before, _office.Signature("data of A"));
        // And taken back while it waits.
        _office.Upgrade().Expect(3).Says("A waits for you");
        DemoFolder.Execute(store.Path, "DROP TABLE ITEM");
        _office.Run("undo", "--yes", "A").Expect(0);
        _office.Run("reopen").Expect(0);
        Assert.Equal(before, _office.Signature("data of A"));
    }

    private void Serve(string store, string how) => _office.More.Add($$"""
        closing:
          services:
            - service: Wages service
              start: [sh, kit/service.sh, start, {{OddOffice.Quoted(store)}}, {{how}}]
              stop: [sh, kit/service.sh, stop]
              status: [sh, kit/service.sh, status]
        """);

    private const string UntilLog = "means: {service: {service: wages SERVICE, until: {log: \"{kit}/service.log\", says: ^all converted}, "
        + "failure: [^ERROR], time-limit: 1}}";

    [Theory]
    [InlineData("well", 0, "A through 2")]
    [InlineData("half", 1, "the service wages SERVICE says that it failed: ERROR: cannot convert")]
    public void A_service_that_converts_when_it_starts_is_started_for_that_alone(string how, int exitCode, string says)
    {
        StoreAddress store = _office.Add("A", "sqlite", "data of A/a.db").Store;
        WriteKit(UntilLog.Replace("{kit}", _office["kit"], StringComparison.Ordinal));
        Serve(store.Path, how);
        _office.Write("kit/service.log", "all converted, long ago\n");
        _office.Ready();
        IReadOnlyDictionary<string, string> before = _office.Signature("data of A");
        _office.Upgrade().Expect(exitCode).Says(says);
        Assert.False(File.Exists(_office["kit/on"])); // it did not run before
        if (exitCode == 0) _office.Run("match").Expect(0).Says("Proved: the new store of A");
        if (exitCode == 0) _office.Run("undo", "--yes", "A").Expect(0);
        Assert.Equal(before, _office.Signature("data of A"));
    }

    [Fact]
    public void A_service_that_must_be_off_for_the_hop_is_off_and_on_again_behind_it()
    {
        StoreAddress store = Company(more: "services-off: [Wages service]");
        string hop = File.ReadAllText(_office["kit/hops/1-to-2.yaml"]);
        File.WriteAllText(_office["kit/hops/1-to-2.yaml"], hop.Replace(OddOffice.Quoted(store.Path), "\"{store}\"",
            StringComparison.Ordinal));
        _office.Run("ready").Expect(2).Says("service Wages service", "office.yaml does not say how");
        _office.More.Add("""
            closing:
              services:
                - {service: Wages service, start: [touch, kit/on], stop: [rm, kit/on], status: [sh, kit/service.sh, status], stays-up: yes}
            """);
        _office.WriteOffice();
        File.WriteAllText(_office["kit/on"], "");
        _office.Upgrade().Expect(0).Says("A through 2");
        Assert.Contains("service off", Said(), StringComparison.Ordinal);
        Assert.True(File.Exists(_office["kit/on"]));
    }

    [Fact]
    public void By_day_it_is_left_for_the_night()
    {
        Company();
        IReadOnlyDictionary<string, string> before = _office.Signature("data of A");
        _office.Run("convert").Expect(1).Says("works on the store's own place", "it is left for the night");
        _office.Run("rehearse").Expect(1).Says("works only on the store's own place", "It is left for the night.");
        Assert.Equal(before, _office.Signature("data of A"));
    }

    [Theory]
    [InlineData("place: own", "place: mine", "\"mine\" is not a place; it can be: copy")]
    [InlineData("means:", "means: maps\nwas:", "maps need no place of their own")]
    [InlineData("means:", "account: wages\nmeans: maps\nwas:", "maps need no account of their own")]
    [InlineData("means:", "means: {scripts: {files: [convert.py]}}\nwas:", "scripts need no place of their own")]
    public void Mistakes_are_told_with_their_place(string right, string wrong, string says)
    {
        Company();
        string hop = File.ReadAllText(_office["kit/hops/1-to-2.yaml"]);
        File.WriteAllText(_office["kit/hops/1-to-2.yaml"], hop.Replace(right, wrong, StringComparison.Ordinal));
        _office.Run("survey").Expect(2).Says("kit/hops/1-to-2.yaml:", says);
    }
}
