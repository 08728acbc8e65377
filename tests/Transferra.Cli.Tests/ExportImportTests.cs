using System.Formats.Tar;
using Transferra.Core.Records;
using Transferra.Tests;

namespace Transferra.Cli.Tests;

/// <summary>The vendor's old program writes the data out, and its new one takes it in, into a store that it has made itself.</summary>
public sealed class ExportImportTests : IDisposable
{
    private readonly OddOffice _office = new();
    private readonly TestServers _servers = new();

    public void Dispose()
    {
        _office.Dispose();
        _servers.Dispose();
    }

    private const string Exporter = """
        import csv, os, sqlite3, sys
        store, folder, how = sys.argv[1:4]
        db = sqlite3.connect(store)
        if how == 'writes':
            db.execute("UPDATE ITEM SET NAME = 'exported'"); db.execute('ALTER TABLE GRP ADD COLUMN SENT TEXT'); db.commit()
            db.execute("UPDATE ITEM SET NAME = 'A item ' || INO"); db.commit()
        os.makedirs(folder, exist_ok=True)
        for table in ('GRP', 'ITEM'):
            if how == 'missing' and table == 'GRP': continue
            with open(os.path.join(folder, table + '.csv'), 'w', newline='') as file:
                if how == 'empty' and table == 'GRP': continue
                rows = db.execute('SELECT %s FROM %s' % ('INO, NAME, PRICE, MADE, GNO' if table == 'ITEM' else 'GNO, TITLE',
                    table)).fetchall()
                if how == 'short' and table == 'ITEM': rows = rows[:-1]
                csv.writer(file).writerows([['head'] * len(rows[0])] + rows)
            if how == 'old': os.utime(os.path.join(folder, table + '.csv'), (1.6e9, 1.6e9))
        with open(os.path.join(folder, 'settings.xml'), 'w') as file:
            file.write('<settings><language>en</language>' + ('' if how == 'torn' else '</settings>'))
        if how == 'fails': sys.exit(4)
        """;

    private const string Importer = """
        import csv, os, sqlite3, sys
        folder, store, how = sys.argv[1:4]
        db = sqlite3.connect(store)
        for table in ('GRP', 'ITEM'):
            rows = list(csv.reader(open(os.path.join(folder, table + '.csv'), newline='')))[1:]
            columns = 'INO, NAME, PRICE, MADE, GNO' if table == 'ITEM' else 'GNO, TITLE'
            for row in rows:
                db.execute('INSERT OR REPLACE INTO %s (%s) VALUES (%s)' % (table, columns, ', '.join('?' * len(row))),
                    [None if value == '' else value for value in row])
            db.commit()
            if how == 'half': sys.exit(3)
        if how == 'wipes': db.execute('DELETE FROM GRP WHERE GNO = 9')
        if how == 'loses': db.execute('DELETE FROM ITEM WHERE INO = 3')
        db.commit()
        print('imported')
        """;

    private void WriteKit(string export, string import)
    {
        _office.Write("kit/kit.yaml", "kit: odd\ntitle: Odd\nversions: [\"1\", \"2\"]\nhops: [1-to-2]\n");
        foreach (string version in (string[])["1", "2"])
            _office.Write($"kit/versions/{version}.yaml", $"version: \"{version}\"\ntold-by: [{{sql: 'SELECT \"VAL\" FROM \"VER\"', is: "
                + $"\"{version}\"}}]\n");
        _office.Write("kit/export.py", Exporter);
        _office.Write("kit/import.py", Importer);
        _office.Write("kit/hops/1-to-2.yaml", $"""
            hop: {"{from: \"1\", to: \"2\"}"}
            beginning: vendor-made
            shipped: {"{VER: keep}"}
            means:
              export-import:
                export:
                  {export}
                  files: ["*.csv", settings.xml]
                  records: [{"{file: ITEM.csv, of: ITEM}"}]
                import:
                  {import}

            """);
    }

    private static string ByProgram(string script, string places, string how) =>
        $"program: {{command: [/usr/bin/python3, \"{{kit}}/{script}.py\", {places}, {how}]}}";

    // With records that it ships: some of them with keys that ours have, a table and a column that the old program did not have.
    private static readonly string[] Made =
    [
        "CREATE TABLE VER (WHAT TEXT NOT NULL PRIMARY KEY, VAL TEXT)", "INSERT INTO VER VALUES ('DATA', '2')",
        "CREATE TABLE GRP (GNO INTEGER NOT NULL PRIMARY KEY, TITLE TEXT)", "INSERT INTO GRP VALUES (1, 'shipped'), (9, 'only theirs')",
        "CREATE TABLE TAX (CODE TEXT, RATE TEXT)", "INSERT INTO TAX VALUES ('A', '20')",
    ];

    private StoreAddress Company(string export = "well", string import = "well")
    {
        WriteKit(ByProgram("export", "\"{store}\", \"{export}\"", export), ByProgram("import", "\"{export}\", \"{store}\"", import));
        return Company();
    }

    private StoreAddress Company()
    {
        OddCompany company = _office.Add("A", "sqlite", "data of A/a.db");
        _office.Companies[0] = company with { More = ["vendor-made: {sqlite: vendors.db}"] };
        string items = DemoFolder.Ask(company.Store.Path, "SELECT sql FROM sqlite_master WHERE name = 'ITEM'")!;
        DemoFolder.Execute(_office["vendors.db"], string.Join(';', [.. Made, items,
            "ALTER TABLE ITEM ADD COLUMN NOTE TEXT DEFAULT 'new'"]));
        _office.Ready();
        _office.Run("ready", "--confirm", "A/overwrites");
        return company.Store;
    }

    private static IReadOnlyList<string> MembersOf(string set)
    {
        using var tar = new TarReader(File.OpenRead(set));
        var names = new List<string>();
        while (tar.GetNextEntry() is { } entry) names.Add(entry.Name);
        return names;
    }

    [Theory]
    [InlineData("well")]
    [InlineData("writes")] // to the copy it was given
    public void What_the_old_program_writes_out_of_a_copy_is_proved_kept_and_taken_in_by_the_new_one(string how)
    {
        StoreAddress store = Company(how);
        (IReadOnlyDictionary<string, string> before, byte[] vendors) = (_office.Signature("data of A"),
            File.ReadAllBytes(_office["vendors.db"]));
        _office.Run("ready").Says("Records that the new program ships are overwritten by ours: GRP: 1 of 2");
        if (how == "writes") _office.Run("rehearse").Expect(0).Says("A: the original is as it was before");
        Assert.Equal(before, _office.Signature("data of A"));
        _office.Upgrade().Expect(0).Says("A through 2", "written out by the old program, from a copy", "3 files",
            "ITEM.csv: 5 records, as many as in ITEM", "GRP, 2 records that the new program ships: kept 1, overwritten by ours 1");
        Assert.Equal("5 brass only theirs 2 20", DemoFolder.Ask(store.Path, "SELECT (SELECT count(*) FROM ITEM WHERE NOTE = 'new') || ' ' "
            + "|| (SELECT TITLE FROM GRP WHERE GNO = 1) || ' ' || (SELECT TITLE FROM GRP WHERE GNO = 9) || ' ' || (SELECT VAL FROM VER) "
            + "|| ' ' || (SELECT RATE FROM TAX)"));
        _office.Run("match").Expect(0).Says("Proved: the new store of A", "the column NOTE of ITEM");
        // It lies with the run, and in a set.
        Assert.Contains(Directory.GetFiles(_office["sets"], "*.tar").SelectMany(MembersOf), name => name.EndsWith("/ITEM.csv.zst",
            StringComparison.Ordinal) || name.EndsWith("/ITEM.csv", StringComparison.Ordinal));
        Assert.Equal(vendors, File.ReadAllBytes(_office["vendors.db"]));
        _office.Run("undo", "--yes", "A").Expect(0);
        Assert.Equal(before, _office.Signature("data of A"));
        // The set with the export in it is one like any other.
        DemoFolder.Execute(store.Path, "DELETE FROM ITEM");
        _office.Run("restore", "A", "--yes", "A").Expect(0);
        Assert.Equal("5", DemoFolder.Ask(store.Path, "SELECT count(*) FROM ITEM"));
    }

    [Theory]
    [InlineData("missing", "well", "there is no GRP.csv in")]
    [InlineData("empty", "well", "GRP.csv is empty")]
    [InlineData("short", "well", "ITEM.csv has 4 records, and the table ITEM that it comes from has 5")]
    [InlineData("old", "well", "GRP.csv is of 2020-09-13 12:26 UTC, from before this run")]
    [InlineData("torn", "well", "settings.xml cannot be read: ")]
    [InlineData("fails", "well", "ended with exit code 4")]
    [InlineData("well", "half", "ended with exit code 3")]
    [InlineData("well", "wipes", "NOT proved for A")]
    [InlineData("well", "loses", "{from: ITEM, rows-left-out")]
    public void What_is_not_whole_is_not_taken_in_or_not_let_through(string export, string import, string says)
    {
        Company(export, import);
        _office.Write("kit/hops/1-to-2.yaml", File.ReadAllText(_office["kit/hops/1-to-2.yaml"]).Replace("[\"*.csv\"", "[GRP.csv, ITEM.csv",
            StringComparison.Ordinal));
        IReadOnlyDictionary<string, string> before = _office.Signature("data of A");
        _office.Upgrade().Expect(1).Says(says, "Open: everything that was closed is as it was");
        Assert.Equal(before, _office.Signature("data of A"));
    }

    [Fact]
    public void By_hand_it_waits_for_both_through_restarts_and_takes_nothing_that_is_old()
    {
        Directory.CreateDirectory(_office["exports"]);
        WriteKit($"by-hand: {{steps: [\"Export {{company}} from {{store}} to {_office["exports"]}.\"]}}\n      "
            + $"into: {_office["exports"]}\n      place: own", "by-hand: {steps: [\"Import {export} into {store}.\"]}");
        StoreAddress store = Company();
        IReadOnlyDictionary<string, string> before = _office.Signature("data of A");
        void export(string how) => BuiltProgram.Wait(MishapProcess("export.py", store.Path, _office["exports"], how)).Expect(0);
        export("old");
        _office.Upgrade().Expect(3).Says("A waits for you", "Export A from " + store.Path[..20], "from before this run");
        Assert.Contains(_office.Signature("data of A"), file => file.Key.Contains("/lent-v1/", StringComparison.Ordinal)
            && file.Value == before["a.db"]);
        export("writes");
        _office.Run("upgrade", "--resume").Expect(3).Says("A waits for you", "Import");
        string copy = Assert.Single(Directory.GetFiles(_office["data of A"], "a.db", SearchOption.AllDirectories), file =>
            file.Contains("/v2/", StringComparison.Ordinal)), kept = Assert.Single(Directory.GetDirectories(_office["transferra/runs"],
            "export-1-2", SearchOption.AllDirectories));
        File.Delete(_office["exports/ITEM.csv"]); // what is taken in is what was proved
        // The version stands in the vendor's store from the beginning, so that it does not tell whether it was done.
        BuiltProgram.Wait(MishapProcess("import.py", kept, copy, "well")).Expect(0);
        _office.Run("upgrade", "--resume").Expect(0).Says("A through 2", "written out by the old program, by hand");
        _office.Run("match").Expect(0).Says("Proved: the new store of A");
        _office.Run("undo", "--yes", "A").Expect(0);
        Assert.Equal(before, _office.Signature("data of A"));
    }

    private System.Diagnostics.Process MishapProcess(string script, params string[] arguments) => System.Diagnostics.Process.Start(
        new System.Diagnostics.ProcessStartInfo("/usr/bin/python3", [_office["kit/" + script], .. arguments])
        {
            RedirectStandardInput = true,
            RedirectStandardOutput = true,
            RedirectStandardError = true
        })!;

    [Fact]
    public void Killed_at_any_operation_it_goes_on_or_is_taken_back()
    {
        int killed = 0;
        for (int n = 60; ; n += Seeds.IsSoak ? 1 : 41)
        {
            using var office = new ExportImportTests();
            office.Company("writes");
            IReadOnlyDictionary<string, string> before = office._office.Signature("data of A");
            if (BuiltProgram.RunUntil(n, office._office.Path, "upgrade", "--yes", "A").ExitCode != 137) break;
            killed++;
            // Killed after the run, when the office is opened again, there is nothing to resume.
            if (killed % 2 == 1 && office._office.Run("upgrade", "--resume") is { ExitCode: not 2 } resumed)
            {
                resumed.Expect(0);
                office._office.Run("match").Expect(0).Says("Proved: the new store of A");
            }
            if (office._office.Run("undo", "--yes", "A") is { ExitCode: not 2 } undone) undone.Expect(0);
            office._office.Run("reopen");
            Assert.Equal(before, office._office.Signature("data of A"));
        }
        Assert.InRange(killed, 3, 1000);
    }

    [Fact]
    public void On_a_server_each_program_works_on_a_copy_under_the_original_s_name_and_a_rehearsal_leaves_that_for_the_night()
    {
        StoreAddress store = _office.Add("A", _servers.Database("postgresql", "a")).Store, vendors = _servers.Made("postgresql", "vendors",
            "CREATE TABLE \"VER\" (\"WHAT\" text PRIMARY KEY, \"VAL\" text)", "INSERT INTO \"VER\" VALUES ('DATA', '2')",
            "CREATE TABLE \"GRP\" (\"GNO\" bigint PRIMARY KEY, \"TITLE\" text)", "INSERT INTO \"GRP\" VALUES (9, 'only theirs')",
            "CREATE TABLE \"ITEM\" (\"INO\" bigint PRIMARY KEY, \"NAME\" text, \"PRICE\" numeric(12,2), \"MADE\" date, \"GNO\" bigint)");
        string program(string way) => "program:\n        command: [sh, \"{kit}/" + way + ".sh\", \"{host}\", \"{port}\", \"{user}\", "
            + store.Path + ", \"{export}\"]\n        environment: {PGPASSFILE: \"{credentials}\"}\n        "
            + "credentials: \"{host}:{port}:*:{user}:{password}\"";
        foreach (string way in (string[])["TO", "FROM"])
            _office.Write($"kit/{way}.sh", "#!/bin/sh\nfor table in GRP ITEM; do psql -w -v ON_ERROR_STOP=1 -h \"$1\" -p \"$2\" -U \"$3\" "
                + $"-d \"$4\" -c \"\\\\copy \\\"$table\\\" {way} $5/$table.csv csv header\" || exit 1; done\n");
        WriteKit(program("TO") + "\n      place: own", program("FROM"));
        string hop = File.ReadAllText(_office["kit/hops/1-to-2.yaml"]);
        File.WriteAllText(_office["kit/hops/1-to-2.yaml"], hop.Replace(", settings.xml", "", StringComparison.Ordinal) + "place: own\n");
        _office.Companies[0] = _office.Companies[0] with { More = [$"vendor-made: {OddOffice.ServerYaml(vendors)}"] };
        _office.Ready();
        IReadOnlyList<string> before = OddOffice.Rows(store);
        _office.Run("rehearse").Expect(1).Says("It is left for the night.");
        _office.Upgrade().Expect(0).Says("A through 2", "ITEM.csv: 5 records, as many as in ITEM");
        Assert.Equal("3", TestServers.Ask(store, "SELECT count(*) FROM \"GRP\""));
        _office.Run("match").Expect(0).Says("Proved: the new store of A");
        _office.Run("undo", "--yes", "A").Expect(0);
        Assert.Equal(before, OddOffice.Rows(store));
        Assert.DoesNotContain(new Transferra.Stores.StoreOpener().ServerOf(store).Names(store.Path), name =>
            name.Contains("export", StringComparison.Ordinal) && name.EndsWith(store.Name, StringComparison.Ordinal));
    }

    [Theory]
    [InlineData("files: [\"*.csv\", settings.xml]", "was: no", "\"files\" says what is written out")]
    [InlineData("program: {command: [/usr/bin/python3, \"{kit}/import.py\"", "by-hand: {steps: [do it]}\n      "
        + "program: {command: [/usr/bin/python3, \"{kit}/import.py\"", "this is done by exactly one of: program, by-hand, service")]
    [InlineData("\"{store}\", \"{export}\"", "\"{stor}\"", "{stor} is not known here")]
    [InlineData("of: ITEM", "of: ITEM, head-lines: one", "\"one\" is not a number of lines")]
    [InlineData("beginning: vendor-made", "beginning: empty", "only a store that the vendor made has records that it ships")]
    public void Mistakes_are_told_with_their_place(string right, string wrong, string says)
    {
        Company("well");
        string hop = File.ReadAllText(_office["kit/hops/1-to-2.yaml"]);
        Assert.Contains(right, hop, StringComparison.Ordinal);
        _office.Write("kit/hops/1-to-2.yaml", hop.Replace(right, wrong, StringComparison.Ordinal));
        _office.Run("survey").Expect(2).Says("kit/hops/1-to-2.yaml:", says);
    }
}
