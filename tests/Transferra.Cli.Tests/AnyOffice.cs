// AnyOffice.cs: an office made up from a seed: companies of any engine in any layout, with values at every border and tables that the kit
// does not know.
// What it remembers of each company is read without Transferra (IndependentReader.cs) before anything is done to it.
using System.Globalization;
using Transferra.Core.Records;
using Transferra.Tests;

namespace Transferra.Cli.Tests;

/// <summary>A company as it was made.</summary>
/// <param name="Made">As office.yaml names it.</param>
/// <param name="Real">Where its records really are, when its store is a link.</param>
/// <param name="New">Where they are to be after an upgrade.</param>
/// <param name="Before">Its records.</param>
/// <param name="Bytes">Its files, by digest; empty for a database.</param>
internal sealed record AnyCompany(OddCompany Made, StoreAddress Real, StoreAddress New, SortedDictionary<string,
    (string[] Columns, List<string[]> Rows)> Before,
    IReadOnlyDictionary<string, string> Bytes)
{
    public string Code => Made.Code;
}

internal sealed class AnyOffice : IDisposable
{
    private static readonly string[] Engines = ["sqlite", "sqlite", "sqlite", "dbf", "dbf", "delimited", "json-lines"];

    private static readonly string[] Codes = ["A", "B", "A_B", "C1", "HQ", "Z-9", "a1"];

    private static readonly string[] Folders = ["data", "data", "data/nested/deep", "data/with blank", "data/Büro & Söhne",
        "data/it's \"quoted\"", "data/transferra-old", "data/line\nfeed"];

    private readonly Random _random;
    private readonly TestServers _servers = new();

    public AnyOffice(int seed)
    {
        _random = new Random(seed);
        Office = new OddOffice();
        int companies = One(1, 1, 1, 1, 2, 2, 2, 3, 5);
        string together = One(Folders);
        bool isTogether = _random.Next(2) == 0;
        // Databases take most of the time, so that only some offices have one.
        string? server = _random.Next(12) == 0 ? One("postgresql", "mariadb", "firebird") : null;
        foreach (string code in Codes.OrderBy(_ => _random.Next()).Take(companies))
        {
            Companies.Add(Make(code, server ?? One(Engines), isTogether ? together : One(Folders)));
            server = null;
        }
        if (_random.Next(24) == 0)
        {
            Office.Write("passphrase", "seven green violins in the rain\n");
            File.SetUnixFileMode(Office["passphrase"], UnixFileMode.UserRead);
            Locked = ", locked-with: {file: passphrase}";
        }
        // A kit need not say what the store does; files of mere text do not say it.
        if (Companies.All(company => company.Made.Store.IsOnServer || company.Made.Store.Engine == "sqlite"))
        {
            Kit = One("described", "old of the store", "both of the store");
            if (Kit != "described") Office.WriteKit(OddOffice.OfStore(OddOffice.OldVersion), Kit == "both of the store"
                ? OddOffice.OfStore(OddOffice.NewVersion) : OddOffice.NewVersion);
        }
        Directory.CreateDirectory(Office["elsewhere"]);
        Office.More[0] = $"backup: {{to: {One("[sets]", "[sets, elsewhere/more]", "[elsewhere/more]")}{Locked}}}";
        Office.WriteOffice();
    }

    public OddOffice Office { get; }

    public List<AnyCompany> Companies { get; } = [];

    public string Locked { get; } = "";

    /// <summary>What the kit says of the tables.</summary>
    public string Kit { get; } = "described";

    /// <summary>Folders in which stores are.</summary>
    public IReadOnlyList<string> Roots => [Office["data"], Office["really"]];

    public override string ToString() =>
        string.Join("; ", Companies.Select(company => $"{company.Code} {company.Made.Store.Engine} {company.Made.Store.Name}"
        + $"{(company.New == company.Made.Store ? "" : " to " + company.New.Engine)}"
            + $"{(company.Real == company.Made.Store ? "" : " (linked)")}")) + $"; kit {Kit}; " + Office.More[0];

    public void Dispose()
    {
        _servers.Dispose();
        Office.Dispose();
    }

    private T One<T>(params ReadOnlySpan<T> of) => of[_random.Next(of.Length)];

    private AnyCompany Make(string code, string engine, string folder)
    {
        object?[][] items = Items(engine);
        OddCompany made;
        StoreAddress real, renewed;
        if (StoreAddress.ServerEngines.Contains(engine))
        {
            made = Office.Add(code, _servers.Database(engine, One("books", "b-1", "mit leer", "x") + code.ToLowerInvariant()),
                items: items);
            (real, renewed) = (made.Store, made.Store);
        }
        else
        {
            string name = code + One("", " 1", "_it's", " ä\"b\"", "'; DROP TABLE x; --")
                + (engine == "sqlite" ? One(".db", ".sqlite", "") : "");
            string path = $"{folder}/{name}";
            bool isLinked = _random.Next(6) == 0;
            made = Office.Add(code, engine, isLinked ? $"really/{name}" : path, items: items);
            real = made.Store;
            if (isLinked) made = Link(made, path);
            renewed = made.Store;
            if (engine is "dbf" or "delimited" && _random.Next(3) == 0)
            {
                renewed = new StoreAddress("sqlite", Path.Combine(Path.GetDirectoryName(made.Store.Path)!, code + "-new.db"));
                if (!isLinked) Again(made = made with
                {
                    More = [.. made.More,
                    $"new-store: {{sqlite: {OddOffice.Quoted(Path.GetRelativePath(Office.Path, renewed.Path))}}}"]
                });
                else renewed = made.Store;
            }
        }
        Decorate(made.Store);
        if (_random.Next(4) == 0) Again(made = Documents(made));
        if (!real.IsOnServer && _random.Next(4) == 0) Of("nobody:nogroup", real.Path);
        return new AnyCompany(made, real, renewed, IndependentReader.Read(real), real.IsOnServer ? new Dictionary<string,
            string>() : Files(real.Path));
    }

    private void Again(OddCompany made) => Office.Companies[Office.Companies.FindIndex(known => known.Code == made.Code)] = made;

    private OddCompany Link(OddCompany made, string path)
    {
        Directory.CreateDirectory(Path.GetDirectoryName(Office[path])!);
        File.CreateSymbolicLink(Office[path], made.Store.Path);
        OddCompany linked = made with
        {
            Store = made.Store with { Path = Office[path] },
            Yaml = made.Yaml!.Replace(OddOffice.Quoted("really/" + made.Store.Name), OddOffice.Quoted(path), StringComparison.Ordinal)
        };
        Again(linked);
        return linked;
    }

    private OddCompany Documents(OddCompany made)
    {
        string folder = $"documents/{made.Code}";
        foreach (string name in (string[])["letter.txt", "Rechnung ä 'b' \"c\".txt", "line\nfeed.txt",
            "deep/er/x"]) Office.Write($"{folder}/{name}", name + made.Code);
        File.CreateSymbolicLink(Office[$"{folder}/link"], "letter.txt");
        // not UTF-8
        using (System.Diagnostics.Process odd = System.Diagnostics.Process.Start("sh", ["-c", "printf x > \"$0/$(printf 'caf\\351')\"",
            Office[folder]])) odd.WaitForExit();
        return made with { More = [.. made.More, $"documents: [{folder}]"] };
    }

    private static void Of(string owner, string path)
    {
        using System.Diagnostics.Process chown = System.Diagnostics.Process.Start("chown", ["-R", owner, path]);
        chown.WaitForExit();
    }

    private object?[][] Items(string engine)
    {
        bool plain = engine == "dbf";
        string[] texts = plain ? ["plain", "it's \"so\"", "a;b,c", "-", "0", "NULL", new string('x', 40)]
            : ["plain", "it's \"so\"", "a;b,c\td", "two\nlines", "ÄÖÜ ß € 漢字 \U0001F3BB", "e\u0301", "NULL", "-", "007",
                " blank in front", "'; DROP TABLE item; --", new string('x', 40)];
        // Texts of one engine come back from others without their last blanks; only engines that keep them get some.
        if (!plain && engine is not ("mariadb" or "firebird")) texts = [.. texts, "", " ", "blank behind "];
        Int128[] prices = [0, 1, -1, 999_999_999_999, -999_999_999_999, 105, 100_000];
        DateOnly[] days = [new(2024, 2, 29), new(1900, 1, 1), new(1999, 12, 31), new(9999, 12, 31), plain || engine == "mariadb"
            ? new(1000, 1, 1) : new(1, 1, 1)];
        int records = One(0, 1, 3, 12, 40);
        return [.. Enumerable.Range(1, records).Select(i => (object?[])[(long)(i * One(1, 1, 1, 7) + (i * 100)), _random.Next(9) == 0
            ? null : One(texts),
            _random.Next(9) == 0 ? null : One(prices), _random.Next(9) == 0 ? null : One(days), _random.Next(5) == 0 ? null
                : (long)_random.Next(1, 4)])];
    }

    // Tables that the kit does not know, a column that it does not know, relations onto itself and to tables made later, values that are
    // special to an engine.
    private void Decorate(StoreAddress store)
    {
        string[] statements = store.Engine switch
        {
            "sqlite" =>
            [
                "CREATE TABLE MIXED (ID INTEGER PRIMARY KEY, BARE, ODD INTEGER_OR_TEXT, BIN BLOB, R REAL); INSERT INTO MIXED VALUES (1, "
                    + "7, '7', x'00FF', 1e-320), (2, '7', 7, x'', -0.0), (3, 7.5, NULL, NULL, 1e308), (4, x'41', '', zeroblob(5), 0.1)",
                "CREATE TABLE TREE (ID INTEGER PRIMARY KEY, UP INTEGER REFERENCES TREE (ID), BESIDE INTEGER REFERENCES LATER (ID)); "
                    + "CREATE TABLE LATER (ID INTEGER PRIMARY KEY, T TEXT); INSERT INTO LATER VALUES (5, 'x'); INSERT INTO TREE VALUES "
                    + "(1, 3, 5), (2, NULL, NULL), (3, 1, NULL)",
                "CREATE TABLE LOOSE (CODE TEXT PRIMARY KEY, V INT); INSERT INTO LOOSE VALUES (NULL, 1), (NULL, 1), ('a', 2)",
                // The engine holds anything in any column, and old programs make use of it.
                "CREATE TABLE WRONG (ID INTEGER PRIMARY KEY, D DATE, T VARCHAR(3), Q DECIMAL(9,2), N INTEGER, B BOOLEAN); INSERT INTO "
                    + "WRONG VALUES (1, '2024-02-29', 'abc', 1.5, 1, 1), (2, '', 'too long', 0.142857142857, 'x', 'no'), (3, "
                    + "'29.02.2024', x'00', 'none', 2.5, 7), (4, 20240229, 5, -1e12, NULL, ''); CREATE INDEX WRONG_Q ON WRONG (Q, "
                    + "T DESC); CREATE UNIQUE INDEX WRONG_D ON WRONG (D COLLATE NOCASE, ID); CREATE INDEX WRONG_N ON WRONG (N) WHERE N > 1",
                "ALTER TABLE ITEM ADD COLUMN EXTRA TEXT; UPDATE ITEM SET EXTRA = 'x' || INO WHERE INO % 2 = 0",
                "PRAGMA journal_mode = WAL",
            ],
            "postgresql" =>
            [
                "CREATE TABLE special (id int PRIMARY KEY, f double precision, n numeric(10,2), d date, t timestamp); INSERT INTO "
                    + "special VALUES (1, 'NaN', 'NaN', 'infinity', '-infinity'), (2, 'Infinity', 1.5, '-infinity', 'infinity'), (3, "
                    + "'-0', 0, '0001-01-01', '9999-12-31 23:59:59.999999'), (4, NULL, NULL, NULL, NULL)",
                "CREATE TABLE tree (id int PRIMARY KEY, up int REFERENCES tree (id)); INSERT INTO tree VALUES (1, NULL), (2, 1), (3, 3)",
                "CREATE TABLE loose (a text, b bytea); INSERT INTO loose VALUES ('x', '\\x00ff'), ('x', '\\x00ff'), (NULL, '')",
                "ALTER TABLE \"ITEM\" ADD COLUMN \"EXTRA\" varchar(20) DEFAULT 'none'",
                // Not carried yet, so that such a company must be refused and stay as it is.
                .. _random.Next(3) == 0 ? (string[])["CREATE SCHEMA \"Old Years\"; CREATE TABLE \"Old Years\".\"ITEM\" (ino int, "
                    + "note text); "
                    + "INSERT INTO \"Old Years\".\"ITEM\" VALUES (1, 'kept')"] : [],
            ],
            "mariadb" =>
            [
                "CREATE TABLE `Special One` (id int PRIMARY KEY, f double, n decimal(30,10), t datetime(6), b varbinary(20)); INSERT "
                    + "INTO `Special One` VALUES (1, 1e-300, 0.0000000001, '2024-02-29 23:59:59.999999', 0x00FF), (2, -1e308, "
                    + "-99999999999999999999, '1000-01-01', ''), (3, NULL, NULL, NULL, NULL)",
                "CREATE TABLE tree (id int PRIMARY KEY, up int, FOREIGN KEY (up) REFERENCES tree (id)); INSERT INTO tree "
                    + "VALUES (1, 1), (2, 1)",
                "CREATE TABLE fast (id int PRIMARY KEY, v varchar(10)) ENGINE = MyISAM; INSERT INTO fast VALUES (1, 'a')",
                "ALTER TABLE ITEM ADD COLUMN EXTRA int DEFAULT 5",
            ],
            "firebird" =>
            [
                "CREATE TABLE SPECIAL (ID INTEGER NOT NULL PRIMARY KEY, F DOUBLE PRECISION, N NUMERIC(18,4), "
                    + "T TIMESTAMP, B BLOB SUB_TYPE 0)",
                "CREATE TABLE TREE (ID INTEGER NOT NULL PRIMARY KEY, UP INTEGER REFERENCES TREE (ID))",
                "ALTER TABLE ITEM ADD EXTRA VARCHAR(20)",
            ],
            _ => [],
        };
        foreach (string statement in statements.Where(_ => _random.Next(3) > 0))
        {
            if (store.Engine == "sqlite") DemoFolder.Execute(store.Path, statement);
            else TestServers.Execute(store, statement);
        }
    }

    /// <summary>Digest of a file, or of each file in a folder.</summary>
    public static IReadOnlyDictionary<string, string> Files(string path) => Directory.Exists(path) ? TempFolder.Signature(path)
        : new Dictionary<string, string>
        {
            [""] = Convert.ToHexStringLower(System.Security.Cryptography.SHA256.HashData(File.ReadAllBytes(path)))
        };

    /// <summary>The old records as they have to be in the new store.</summary>
    public static IReadOnlyList<string> Expected(AnyCompany company) => Lines(company.Before, company.Real.Engine != company.New.Engine,
        isOld: true);

    /// <summary>What is in the new store.</summary>
    public static IReadOnlyList<string> Found(AnyCompany company, StoreAddress renewed) =>
        Lines(IndependentReader.Read(renewed), company.Real.Engine != company.New.Engine, isOld: false);

    // Known tables value by value as their columns are meant; others as they stand, or only counted where another engine writes the same
    // values in its own way.
    private static List<string> Lines(SortedDictionary<string, (string[] Columns, List<string[]> Rows)> tables, bool crosses, bool isOld)
    {
        var lines = new List<string>();
        foreach ((string table, (string[] columns, List<string[]> rows)) in tables)
        {
            string? kinds = table switch { "ver" or "version" => "tt", "grp" => "it", "item" => "itndi", _ => null };
            string name = table == "ver" ? "version" : table;
            foreach (string[] row in rows)
            {
                IEnumerable<string> values = kinds is null ? crosses ? [] : row : row.Select((value, i) => i < kinds.Length
                    ? Canonical(value, kinds[i], crosses) : crosses ? "" : value);
                if (isOld && table == "ver") values = values.Select((value, i) => i == 1 ? "2" : value);
                lines.Add($"{name}: {string.Join(" | ", values)}");
            }
            if (rows.Count == 0) lines.Add($"{name}: of {columns.Length} columns");
        }
        lines.Sort(StringComparer.Ordinal);
        return lines;
    }

    private static string Canonical(string value, char kind, bool crosses)
    {
        foreach (string prefix in (string[])["integer:", "real:", "text:"])
            if (value.StartsWith(prefix, StringComparison.Ordinal)) value = value[prefix.Length..];
        if (value == "\u2205" || (crosses && value.Trim().Length == 0)) return "none";
        return kind switch
        {
            'i' or 'n' => decimal.Parse(value, NumberStyles.Float, CultureInfo.InvariantCulture).ToString("0.####",
                CultureInfo.InvariantCulture),
            'd' => value.Length == 8 ? $"{value[..4]}-{value[4..6]}-{value[6..]}" : value[..10],
            _ => crosses ? value.TrimEnd(' ') : value,
        };
    }
}
