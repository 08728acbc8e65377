using Transferra.Core.Records;
using Transferra.Tests;

namespace Transferra.Cli.Tests;

/// <summary>The vendor's program converts a copy: it is answered, watched, ended, and not believed.</summary>
public sealed class ProgramTests : IDisposable
{
    private readonly OddOffice _office = new();

    public void Dispose() => _office.Dispose();

    // A vendor's converter as one might be: asks, works, logs; how it goes wrong is told by its second argument.
    private const string Converter = """
        import os, sqlite3, subprocess, sys, time
        store, how = sys.argv[1], sys.argv[2]
        if how == 'terminal' and not sys.stdout.isatty(): sys.exit('no terminal')
        sys.stdout.write('Company code? '); sys.stdout.flush()
        code = sys.stdin.readline().strip()
        sys.stdout.write('Convert ' + code + ' now (y/n)? '); sys.stdout.flush()
        if sys.stdin.readline().strip() != 'y': sys.exit('not wanted')
        if how == 'hang': subprocess.Popen(['sh', '-c', 'sleep 600; true', 'sleep 600 ' + store]); time.sleep(600)
        if how == 'secret': print(open(sys.argv[3]).read(), oct(os.stat(sys.argv[3]).st_mode & 0o777), os.environ.get('KEPT_BACK'))
        db = sqlite3.connect(store)
        db.execute("ALTER TABLE ITEM ADD COLUMN NOTE TEXT DEFAULT 'new'")
        if how != 'half': db.execute("UPDATE VER SET VAL = '2'")
        if how == 'loses': db.execute('DELETE FROM ITEM WHERE INO = 4')
        db.commit()
        if how == 'strays': other = sqlite3.connect(sys.argv[4]); other.execute("UPDATE ITEM SET NAME = 'spoilt'"); other.commit()
        log = open('convert.log', 'a')
        log.write('begun\n' + ('ERROR 17: table ITEM\n' if how == 'lies' else '') + ('' if how == 'quiet' else 'all tables converted\n'))
        log.close()
        print('done, ' + os.environ['STYLE'])
        sys.exit(3 if how == 'code' else 0)
        """;

    private StoreAddress Company(string how = "well", string more = "", string answers = "{asked: 'code\\?', say: A}, {asked: 'now', "
        + "say: y}")
    {
        _office.Write("kit/kit.yaml", "kit: odd\ntitle: Odd\nversions: [\"1\", \"2\"]\nhops: [1-to-2]\n");
        foreach (string version in (string[])["1", "2"])
            _office.Write($"kit/versions/{version}.yaml", $"version: \"{version}\"\ntold-by: [{{sql: 'SELECT VAL FROM VER', is: "
                + $"\"{version}\"}}]\n");
        _office.Write("kit/convert.py", Converter);
        string last = how == "secret" ? "{credentials}" : "{company}";
        _office.Write("kit/hops/1-to-2.yaml", $$$$"""
            hop: {from: "1", to: "2"}
            means:
              program:
                command: [/usr/bin/python3, "{kit}/convert.py", "{store}", {{{{how}}}}, "{{{{last}}}}", "{{{{_office["a.db"]}}}}"]
                environment: {STYLE: "to {to}"}
                answers: [{{{{answers}}}}]
                log: convert.log
                success: all tables converted
                failure: [^ERROR]
                {{{{more}}}}
            tables:
              - {from: VER, into: {VER: {VAL: "'2'"}}}

            """);
        OddCompany company = _office.Add("A", "sqlite", "a.db");
        _office.Ready();
        return company.Store;
    }

    private static string Digest(string path) => Convert.ToHexString(System.Security.Cryptography.SHA256.HashData(File.ReadAllBytes(path)));

    private string Said() => File.ReadAllText(Assert.Single(Directory.GetFiles(_office["transferra"], "program-1-2.txt",
        SearchOption.AllDirectories)));

    [Theory]
    [InlineData("well", "")]
    [InlineData("terminal", "terminal: yes")]
    [InlineData("code", "exit-codes: [0, 3]")]
    public void It_is_answered_and_what_it_made_is_proved(string how, string more)
    {
        StoreAddress store = Company(how, more);
        _office.Upgrade().Expect(0).Says("the vendor's program, run on a copy", "A through 2");
        _office.Run("match").Expect(0).Says("Proved: the new store of A", "the column NOTE of ITEM");
        Assert.Equal("5", DemoFolder.Ask(store.Path, "SELECT count(*) FROM ITEM WHERE NOTE = 'new'"));
        Assert.Contains("done, to 2", Said(), StringComparison.Ordinal);
        _office.Run("undo", "--yes", "A").Expect(0);
        Assert.Equal("1", DemoFolder.Ask(store.Path, "SELECT VAL FROM VER"));
    }

    [Theory]
    [InlineData("lies", "says that it failed: ERROR 17: table ITEM")]
    [InlineData("quiet", "nowhere says what it says when it is through")]
    [InlineData("code", "ended with exit code 3; the last it said: ")]
    [InlineData("half", "does not identify itself as version 2")]
    [InlineData("loses", "1 difference in A")]
    public void It_is_not_believed(string how, string says)
    {
        StoreAddress store = Company(how);
        string before = Digest(store.Path);
        _office.Upgrade().Expect(1).Says(says, "taken back");
        Assert.Equal(before, Digest(store.Path));
    }

    [Fact]
    public void One_that_writes_to_the_original_is_found_out_the_office_stays_closed_and_the_set_brings_it_back()
    {
        StoreAddress store = Company("strays");
        IReadOnlyList<string> before = OddOffice.Rows(store);
        _office.Upgrade().Expect(3).Says("was written to while others converted", "is not as it was when the run began, though "
            + "the office was closed", "--give-up, then transferra restore A", "The office stays "
            + "closed").SaysNot("untouched", "match: are the records");
        string run = Path.GetFileName(Assert.Single(Directory.GetDirectories(_office["transferra/runs"])));
        _office.Run("undo", "--run", run, "--give-up", "--yes", "A").Expect(1).Says("Given up");
        _office.Run("restore", "A", "--yes", "A").Expect(0);
        _office.Run("reopen").Expect(0);
        Assert.Equal(before, OddOffice.Rows(store));
        // By day it was given a copy as well, and the rehearsal tells.
        _office.Run("rehearse", "--fresh").Expect(1).Says("A: the original is NOT as it was before");
    }

    [Fact]
    public void When_its_time_is_over_it_is_ended_with_all_it_started()
    {
        StoreAddress store = Company("hang", "time-limit: 0.1");
        string before = Digest(store.Path);
        DateTime begun = DateTime.UtcNow;
        _office.Upgrade().Expect(1).Says("did not end within 0.1 minutes, and was ended", "taken back");
        Assert.InRange((DateTime.UtcNow - begun).TotalSeconds, 6, 60);
        Assert.Equal(before, Digest(store.Path));
        Assert.DoesNotContain("sleep 600 " + store.Path, Processes(), StringComparison.Ordinal);
    }

    [Fact]
    public void Killed_with_us_it_does_not_go_on_and_the_hop_begins_with_the_copy_again()
    {
        StoreAddress store = Company("hang");
        using (System.Diagnostics.Process process = BuiltProgram.Started(_office.Path, "upgrade", "--yes", "A"))
        {
            process.BeginErrorReadLine();
            process.BeginOutputReadLine();
            var clock = System.Diagnostics.Stopwatch.StartNew();
            while (!Processes().Contains(_office.Path + "/kit/convert.py", StringComparison.Ordinal) && clock.Elapsed.TotalSeconds < 60)
                Thread.Sleep(50);
            Thread.Sleep(300);
            process.Kill();
            process.WaitForExit();
        }
        // Nor anything that it started; the store's path stands in the arguments of all of it.
        var gone = System.Diagnostics.Stopwatch.StartNew();
        while (Processes().Contains(_office.Path, StringComparison.Ordinal) && gone.Elapsed.TotalSeconds < 10) Thread.Sleep(50);
        Assert.DoesNotContain(_office.Path, Processes(), StringComparison.Ordinal);
        string hop = File.ReadAllText(_office["kit/hops/1-to-2.yaml"]);
        File.WriteAllText(_office["kit/hops/1-to-2.yaml"], hop.Replace(", hang,", ", well,", StringComparison.Ordinal));
        _office.Run("upgrade", "--resume").Expect(0).Says("A through 2");
        Assert.Equal("2", DemoFolder.Ask(store.Path, "SELECT VAL FROM VER"));
    }

    private static string Processes()
    {
        var all = new System.Text.StringBuilder();
        foreach (string folder in Directory.EnumerateDirectories("/proc").Where(folder => char.IsDigit(Path.GetFileName(folder)[0])))
        {
            try { all.AppendLine(File.ReadAllText(folder + "/cmdline").Replace('\0', ' ')); }
            catch (IOException) { /* it ended meanwhile */ }
        }
        return all.ToString();
    }

    [Fact]
    public void Its_credentials_stand_in_a_file_of_its_own_and_nothing_of_our_environment_reaches_it()
    {
        Company("secret", "credentials: \"company={company} password={password}\"");
        Environment.SetEnvironmentVariable("KEPT_BACK", "secret-of-ours");
        BuiltProgram.RunAlone(_office.Path, "upgrade", "--yes", "A").Expect(0);
        Assert.Contains("company=A password= 0o600 None", Said(), StringComparison.Ordinal);
        Assert.Empty(Directory.GetFiles(_office.Path, "program-credentials", SearchOption.AllDirectories));
    }

    // The engine's own client, for scripts that are written for it; its password stands in the file that the client reads it from.
    public static TheoryData<string, string, string, string> EachClient => new()
    {
        {
            "postgresql", "command: [psql, -w, -v, ON_ERROR_STOP=1, -h, \"{host}\", -p, \"{port}\", -U, \"{user}\", -d, \"{database}\", "
                + "-f, "
                + "\"{kit}/to-2.sql\"]", "environment: {PGPASSFILE: \"{credentials}\"}\n    credentials: "
                + "\"{host}:{port}:{database}:{user}:{password}\"",
            "\\set year 2026\nALTER TABLE \"ITEM\" ADD COLUMN \"NOTE\" integer DEFAULT :year;\nUPDATE \"VER\" SET \"VAL\" = '2';\n"
        },
        {
            "mariadb", "command: [mariadb, \"--defaults-extra-file={credentials}\", --skip-ssl-verify-server-cert, -h, \"{host}\", -P, "
                + "\"{port}\", -u, \"{user}\", \"{database}\", -e, \"source {kit}/to-2.sql\"]",
            "credentials: \"[client]\\npassword={password}\\n\"",
            "delimiter //\nALTER TABLE ITEM ADD COLUMN NOTE int DEFAULT 2026//\nUPDATE VER SET VAL = '2'//\n"
        },
        {
            "firebird", "command: [isql-fb, -q, -b, -user, \"{user}\", -fetch, \"{credentials}\", -i, \"{kit}/to-2.sql\", "
                + "\"{host}/{port}:{database}\"]", "credentials: \"{password}\\n\"",
            "SHOW TABLES;\nALTER TABLE ITEM ADD NOTE INTEGER DEFAULT 2026 NOT NULL;\nCOMMIT;\nUPDATE VER SET VAL = '2';\nCOMMIT;\n"
        },
    };

    [Theory]
    [MemberData(nameof(EachClient))]
    public void The_engine_s_own_client_runs_a_script_that_is_written_for_it(string engine, string command, string more, string script)
    {
        using var servers = new TestServers();
        Company();
        string column = engine == "postgresql" ? "\"VAL\" FROM \"VER\"" : "VAL FROM VER";
        foreach (string version in (string[])["1", "2"])
            _office.Write($"kit/versions/{version}.yaml", $"version: \"{version}\"\ntold-by: [{{sql: 'SELECT {column}', is: "
                + $"\"{version}\"}}]\n");
        _office.Write("kit/to-2.sql", script);
        _office.Write("kit/hops/1-to-2.yaml", $"hop: {{from: \"1\", to: \"2\"}}\nmeans:\n  program:\n    {command}\n    {more}\n"
            + "tables:\n  - {from: VER, into: {VER: {VAL: \"'2'\"}}}\n");
        _office.Companies.Clear();
        StoreAddress store = _office.Add("A", servers.Database(engine, "a")).Store;
        _office.Ready();
        if (engine == "firebird") _office.Run("ready", "--confirm", "A/forced-writes");
        _office.Upgrade().Expect(0).Says("A through 2");
        _office.Run("match").Expect(0).Says("Proved: the new store of A", "the column NOTE of ITEM");
        Assert.Equal("5", TestServers.Ask(store, engine == "postgresql" ? "SELECT count(*) FROM \"ITEM\" WHERE \"NOTE\" = 2026"
            : "SELECT COUNT(*) FROM ITEM WHERE NOTE = 2026"));
        foreach (string left in new Stores.StoreOpener().ServerOf(store).Names(store.Path).Where(name =>
            name.Contains(StoreAddress.RunPrefix, StringComparison.Ordinal) && name.EndsWith(store.Name, StringComparison.Ordinal)))
            servers.Known(store with { Path = left });
    }

    [Theory]
    [InlineData("answers: []", "frob: x", "\"frob\" is not known here")]
    [InlineData("\"{store}\"", "\"{stores}\"", "{stores} is not known here; it can be {store}")]
    [InlineData("failure: [^ERROR]", "failure: [(]", "this is not a regular expression")]
    [InlineData("log: convert.log", "exit-codes: [one]", "\"one\" is not a whole number")]
    public void Mistakes_in_the_kit_are_told_with_their_place(string right, string wrong, string says)
    {
        Company(answers: "");
        string hop = File.ReadAllText(_office["kit/hops/1-to-2.yaml"]);
        Assert.Contains(right, hop, StringComparison.Ordinal);
        File.WriteAllText(_office["kit/hops/1-to-2.yaml"], hop.Replace(right, wrong, StringComparison.Ordinal));
        _office.Run("survey").Expect(2).Says("kit/hops/1-to-2.yaml:", says);
    }
}
