using System.Diagnostics;
using Microsoft.Data.Sqlite;
using Transferra.Tests;

namespace Transferra.Cli.Tests;

/// <summary>What is wrong is refused before anything is written, with exit code 2 and what to do.</summary>
public sealed class BadInputTests : IDisposable
{
    private readonly DemoFolder _office = new(small: true);

    public void Dispose() => _office.Dispose();

    // The program's own folder holds only the lock then, and no run.
    private Called Refused(params string[] arguments)
    {
        IReadOnlyDictionary<string, string> before = Seen();
        Called called = BuiltProgram.Run(_office.Path, arguments).Expect(2);
        Assert.Equal(before, Seen());
        return called;
    }

    private Dictionary<string, string> Seen() => TempFolder.Signature(_office.Path)
        .Where(entry => entry.Key is not ("transferra" or "transferra/lock") && !entry.Key.StartsWith("transferra/closings",
            StringComparison.Ordinal)
            && !entry.Key.StartsWith("transferra/heads", StringComparison.Ordinal))
        .ToDictionary();

    [Fact]
    public void Several_mistakes_are_told_all_at_once_with_file_line_and_column()
    {
        _office.Edit("office.yaml", "wanted-version: \"6\"", "wanted-versoin: \"6\"");
        _office.Edit("office.yaml", "{tax_scheme: standard}\n      - code: QWS", "{tax_scheme: sometimes}\n      - code: QIH");
        _office.Edit("kits/pellwright-ledger/hops/5-to-6.yaml", "period_no: PNO\n        starts_on", "period_no: PNUM\n        starts_on");
        _office.Edit("kits/pellwright-ledger/hops/5-to-6.yaml", "net: CAST(NET AS DECIMAL(14,2))", "net: CAST(NET AS DECIMAL(14,2)");
        _office.Edit("kits/pellwright-ledger/versions/5.yaml", "CLOSED: VARCHAR(1)", "CLOSED: CHARACTERS(1)");
        Called told = Refused("upgrade", "--yes", "QIH");
        foreach (string mistake in (string[])["office.yaml:6:5: \"wanted-versoin\" is not known here",
            "office.yaml:4:5: \"wanted-version\" is missing",
            "office.yaml:13:15: the company code QIH is used twice",
            "versions/5.yaml:12:84: ", "\"CHARACTERS(1)\" is not a type", "5-to-6.yaml:17:20: ", "PNUM", "5-to-6.yaml:65:39: "])
            told.Says(mistake);
        Assert.Matches(@"^transferra: \d+ mistakes in the description of the office; nothing was done:", told.Err);
    }

    [Theory]
    [InlineData("new-store: {sqlite: data/QST/stock.db}", "new-store: {sqlite: data/stock.db}",
        "office.yaml:29:9: the new store lies in another folder")]
    [InlineData("new-store: {sqlite: data/QST/stock.db}", "new-store: {sqlite: data/QST/stock}",
        "office.yaml:29:9: the new store has the old one's place")]
    [InlineData("{dbf: data/QST/stock}", "{dbf: data/QST/stock, sqlite: x.db}", "office.yaml:28:22: a store has one engine")]
    [InlineData("{dbf: data/QST/stock}", "{paper: data/QST/stock}", "\"paper\" is not known here")]
    [InlineData("{dbf: data/QST/stock}", "{}", "a store has one of sqlite, dbf")]
    [InlineData("{dbf: data/QST/stock}", "{postgresql: stock, password: s3cret}", "a password does not belong in this file")]
    [InlineData("{dbf: data/QST/stock}", "{postgresql: stock, port: 99999}", "\"99999\" is not a port")]
    [InlineData("{dbf: data/QST/stock}", "{mariadb: stock, password-file: a, password-variable: b}", "the password is kept in one place")]
    [InlineData("{dbf: data/QST/stock}", "{mariadb: stock, connection: safe}",
        "\"safe\" is not a kind of connection; the kinds are as-offered, encrypted and checked")]
    [InlineData("{dbf: data/QST/stock}", "{mariadb: stock, connection: encrypted, authority: ca.pem}",
        "an authority is asked only where the connection is checked")]
    [InlineData("{dbf: data/QST/stock}", "{firebird: stock, connection: checked}", "a Firebird server has no certificate to check")]
    [InlineData("{dbf: data/QST/stock}", "{postgresql: stock, host: /run/pg, connection: encrypted}",
        "over a local socket nothing is encrypted")]
    [InlineData("{dbf: data/QST/stock}", "{mariadb: stock, schema: x}", "\"schema\" is not known here")]
    [InlineData("{dbf: data/QST/stock}", "{firebird: \"\"}", "the name of the database is empty")]
    [InlineData("new-store: {sqlite: data/QST/stock.db}", "new-store: {sqlite: data/QST/stock.db, host: x}", "\"host\" is not known here")]
    public void A_store_that_cannot_be_is_told_with_its_place(string old, string replacement, string says)
    {
        _office.Edit("office.yaml", old, replacement);
        Refused("survey").Says(says);
    }

    [Fact]
    public void A_text_that_is_no_yaml_is_told_with_its_place()
    {
        _office.Edit("office.yaml", "packages:\n", "packages: [\n");
        Refused("survey").Says("office.yaml:", "this is not YAML");
    }

    [Fact]
    public void Without_an_office_it_says_where_it_looked()
    {
        using TempFolder empty = new();
        BuiltProgram.RunIn(empty.Path, "survey").Expect(2).Says($"there is no office.yaml in {empty.Path}", "--office DIR");
        Assert.Empty(Directory.GetFileSystemEntries(empty.Path));
    }

    [Theory]
    [InlineData("missing", "not there")]
    [InlineData("empty", "is empty")]
    [InlineData("foreign", "is not a SQLite file")]
    [InlineData("other", "not of a version of Pellwright Ledger")]
    [InlineData("torn", "damaged")]
    public void A_store_that_is_none_is_refused(string kind, string says)
    {
        string store = _office.Store("QIH");
        byte[] bytes = File.ReadAllBytes(store);
        File.Delete(store);
        switch (kind)
        {
            case "empty": File.WriteAllBytes(store, []); break;
            case "foreign": File.WriteAllText(store, string.Concat(Enumerable.Repeat("This is a letter and no database. ", 400))); break;
            case "other": DemoFolder.Execute(store, "CREATE TABLE recipes (name TEXT)"); break;
            case "torn": File.WriteAllBytes(store, bytes[..(bytes.Length / 2)]); break;
        }
        Called told = BuiltProgram.Run(_office.Path, "upgrade", "QIH", "--yes", "QIH");
        Assert.True(kind == "torn" ? told.ExitCode is 1 or 2 : told.ExitCode == 2, told.All);
        told.Says(says);
        Assert.Equal(kind == "missing", !File.Exists(store));
        Assert.Empty(Directory.GetDirectories(_office["data/QIH"], "transferra-*"));
        // The company beside it is not held up.
        BuiltProgram.Run(_office.Path, "upgrade", "QWS", "--yes", "QWS").Expect(0);
    }

    [Fact]
    public void A_locked_store_is_refused()
    {
        using var connection = new SqliteConnection($"Data Source={_office.Store("QIH")};Pooling=False");
        connection.Open();
        using SqliteCommand command = connection.CreateCommand();
        command.CommandText = "PRAGMA locking_mode = EXCLUSIVE; BEGIN EXCLUSIVE";
        command.ExecuteNonQuery();
        // Nothing in this process may open the file meanwhile: closing it again would drop the lock (fcntl(2)).
        BuiltProgram.Run(_office.Path, "upgrade", "QIH", "--yes", "QIH").Expect(2).Says("QIH", "is locked by another program",
            "Close the old program");
        Assert.False(Directory.Exists(_office["transferra/runs"]));
    }

    [Theory]
    [InlineData(false)]
    [InlineData(true)] // the office knows the folder by a link
    public void A_store_that_somebody_has_open_is_refused_and_the_program_named(bool linked)
    {
        if (linked)
        {
            Directory.Move(_office["data/QIH"], _office["moved"]);
            Directory.CreateSymbolicLink(_office["data/QIH"], _office["moved"]);
        }
        using Process holder = Process.Start(new ProcessStartInfo("tail", ["-f", _office.Store("QIH")]) { RedirectStandardOutput = true })!;
        try
        {
            Thread.Sleep(300);
            _office.Edit("office.yaml", "  tell: [sh, programs/ledger/tell.sh, \"{message}\"]\n  grace: 10 s\n", "");
            Refused("upgrade", "QIH", "--yes", "QIH").Says("1 session still in: QIH", "tail", $"process {holder.Id}",
                "Close the program there");
        }
        finally
        {
            holder.Kill();
        }
    }

    [Fact]
    public void An_unwritable_place_is_refused()
    {
        // /proc takes no folders from anybody, not even from root.
        _office.Edit("office.yaml", "to: [sets]", "to: [/proc/transferra-sets]");
        Refused("upgrade", "QIH", "--yes", "QIH").Says("backup place", "/proc/transferra-sets cannot be written");
        _office.Edit("office.yaml", "/proc/transferra-sets", "office.yaml");
        Refused("upgrade", "QIH", "--yes", "QIH").Says("a file of that name is in the way");
    }

    [Fact]
    public void Too_little_room_is_refused_with_the_sum()
    {
        _office.Edit("office.yaml", "backup:\n", "keep-free: 900 TB\nbackup:\n");
        Refused("upgrade", "QIH", "--yes", "QIH").Says("free", "needed and 900.0 TB to be kept free", "Make room");
    }

    [Fact]
    public void All_that_stands_in_the_way_is_told_at_once()
    {
        _office.Edit("office.yaml", "        answers: {tax_scheme: standard}\n      - code: QWS", "      - code: QWS");
        _office.Edit("office.yaml", "documents: [data/QIH/documents]", "documents: [data/QIH/papers]");
        _office.Edit("office.yaml", "to: [sets]", "to: [/proc/transferra-sets]");
        Refused("upgrade", "--yes", "QIH", "--yes", "QWS")
            .Says("5 things stand in the way", "Which scheme does the firm account for tax under? (standard, cash)",
                "answers: {tax_scheme: ...}",
            "data/QIH/papers is not there", "/proc/transferra-sets");
    }

    [Fact]
    public void Something_at_the_new_stores_place_is_refused_before_anything_begins()
    {
        File.WriteAllText(_office["data/QST/stock.db"], "left over from a trial");
        Refused("upgrade", "QST", "--yes", "QST").Says("QST, place of the new store", "stock.db is there already", "move it away");
        File.Delete(_office["data/QST/stock.db"]);
        BuiltProgram.Run(_office.Path, "upgrade", "QST", "--yes", "QST").Expect(0);
    }

    [Theory]
    [InlineData("upgrade NONE", "there is no company NONE", "QIH, QWS, QST")]
    [InlineData("undo --run 20200101-000000", "there is no run 20200101-000000", "")]
    [InlineData("upgrade --resume", "nothing to resume", "transferra upgrade")]
    [InlineData("restore QIH", "there is no backup set of QIH", "--set FILE")]
    [InlineData("restore QIH --set /etc/hostname", "/etc/hostname is not a backup set", "Use another set")]
    [InlineData("frobnicate", "frobnicate", "transferra --help")]
    [InlineData("survey --colour", "--colour", "transferra --help")]
    [InlineData("check --memory 95", "--memory needs a number of megabytes, at least 96, not \"95\"", "transferra --help")]
    [InlineData("check --memory 1GB", "--memory needs a number of megabytes, at least 96, not \"1GB\"", "transferra --help")]
    public void Wrong_use_is_refused_with_what_to_do(string command, string what, string next) => Refused(command.Split(' '))
        .Says(what, next);

    [Fact]
    public void A_stack_trace_is_shown_only_when_asked_for()
    {
        File.Delete(_office["office.yaml"]);
        Assert.DoesNotContain("   at ", BuiltProgram.Run(_office.Path, "survey").Err, StringComparison.Ordinal);
        Assert.Contains("   at ", BuiltProgram.Run(_office.Path, "survey", "--trace").Err, StringComparison.Ordinal);
    }
}
