// OddOffice.cs: small offices unlike the demo: any layout of folders, any engine, tables that the kit does not know. Their kit is as
// small as a kit can be that still changes something.
using System.Globalization;
using System.Text;
using Transferra.Core.Records;
using Transferra.Stores;
using Transferra.Tests;

namespace Transferra.Cli.Tests;

/// <summary>A company of an odd office.</summary>
/// <param name="Code">Its code.</param>
/// <param name="Store">Where its records are.</param>
/// <param name="Yaml">The same as office.yaml writes it, when that is not just engine and path.</param>
internal sealed record OddCompany(string Code, StoreAddress Store, string? Yaml = null)
{
    /// <summary>Further lines of office.yaml, such as documents.</summary>
    public IReadOnlyList<string> More { get; init; } = [];
}

internal sealed class OddOffice : IDisposable
{
    public const string OldVersion = """
        version: "1"
        told-by: [{table: VER, column: VAL, where: "WHAT = 'DATA'", is: "1"}]
        tables:
          VER: {columns: {WHAT: VARCHAR(10) NOT NULL, VAL: VARCHAR(10)}, key: [WHAT]}
          GRP: {columns: {GNO: INTEGER NOT NULL, TITLE: VARCHAR(40)}, key: [GNO]}
          ITEM:
            columns: {INO: INTEGER NOT NULL, NAME: VARCHAR(40), PRICE: "DECIMAL(12,2)", MADE: DATE, GNO: INTEGER}
            key: [INO]

        """;

    public const string NewVersion = """
        version: "2"
        told-by: [{table: version, column: val, where: "what = 'DATA'", is: "2"}]
        tables:
          version: {columns: {what: VARCHAR(10) NOT NULL, val: VARCHAR(10)}, key: [what]}
          grp: {columns: {group_no: INTEGER NOT NULL, title: VARCHAR(40)}, key: [group_no]}
          item:
            columns: {item_no: INTEGER NOT NULL, name: VARCHAR(40), price: "DECIMAL(12,2)", made: DATE, group_no: INTEGER}
            key: [item_no]

        """;

    /// <summary>A version of which nothing is said but how it is told: its tables are as the store has them.</summary>
    public static string OfStore(string version) => version[..version.IndexOf("tables:", StringComparison.Ordinal)];

    public const string Hop = """
        hop: {from: "1", to: "2"}
        tables:
          - {from: VER, into: {version: {what: WHAT, val: "'2'"}}, columns-left-out: {VAL: the version is a new one}}
          - {from: GRP, into: {grp: {group_no: GNO, title: TITLE}}}
          - {from: ITEM, into: {item: {item_no: INO, name: NAME, price: PRICE, made: MADE, group_no: GNO}}}

        """;

    public static readonly IReadOnlyList<TableShape> Tables =
    [
        new("VER", [new ColumnShape("WHAT", new FieldType(FieldKind.Text, Length: 10), Required: true),
            new ColumnShape("VAL", new FieldType(FieldKind.Text, Length: 10))],
            ["WHAT"], []),
        new("GRP", [new ColumnShape("GNO", FieldType.Integer, Required: true),
            new ColumnShape("TITLE", new FieldType(FieldKind.Text, Length: 40))], ["GNO"], []),
        new("ITEM", [new ColumnShape("INO", FieldType.Integer, Required: true),
            new ColumnShape("NAME", new FieldType(FieldKind.Text, Length: 40)),
            new ColumnShape("PRICE", FieldType.Decimal(12, 2)), new ColumnShape("MADE", FieldType.Date),
                new ColumnShape("GNO", FieldType.Integer)], ["INO"], []),
    ];

    private readonly TempFolder _folder = new();

    public OddOffice() => WriteKit();

    public string Path => _folder.Path;

    public string this[string relative] => _folder[relative];

    public List<OddCompany> Companies { get; } = [];

    /// <summary>Lines of office.yaml behind the companies.</summary>
    public List<string> More { get; } = ["backup: {to: [sets]}"];

    public string Write(string relative, string text) => _folder.Write(relative, text);

    public void WriteKit(string? oldVersion = null, string? newVersion = null, string? hop = null)
    {
        Write("kit/kit.yaml", "kit: odd\ntitle: Odd\nversions: [\"1\", \"2\"]\nhops: [1-to-2]\n");
        Write("kit/versions/1.yaml", oldVersion ?? OldVersion);
        Write("kit/versions/2.yaml", newVersion ?? NewVersion);
        Write("kit/hops/1-to-2.yaml", hop ?? Hop);
    }

    /// <summary>Adds a company whose store is a file or folder, with a few records.</summary>
    public OddCompany Add(string code, string engine, string path, int records = 5, IEnumerable<object?[]>? items = null)
    {
        Directory.CreateDirectory(System.IO.Path.GetDirectoryName(this[path])!);
        var company = new OddCompany(code, new StoreAddress(engine, this[path], engine == "delimited" ? DelimitedForm : null),
            engine == "delimited"
            ? $"{{delimited: {Quoted(path)}, separator: \",\", quote: '\"', encoding: utf-8, header: yes, decimal-mark: \".\", dates: "
                + $"YYYY-MM-DD, \"null\": '\\N'}}"
            : $"{{{engine}: {Quoted(path)}}}");
        Fill(company.Store, items ?? Items(code, records));
        Companies.Add(company);
        return company;
    }

    /// <summary>Adds a company whose store is a database on a server.</summary>
    public OddCompany Add(string code, StoreAddress database, int records = 5, IEnumerable<object?[]>? items = null)
    {
        Fill(database, items ?? Items(code, records));
        var company = new OddCompany(code, database, ServerYaml(database));
        Companies.Add(company);
        return company;
    }

    public static string ServerYaml(StoreAddress database) =>
        $"{{{database.Engine}: {Quoted(database.Path)}, host: {database.Server!.Host}, "
        + string.Create(CultureInfo.InvariantCulture,
            $"port: {database.Server.Port}, user: {database.Server.User}, password-file: {database.Server.PasswordFile}}}");

    private static readonly Dictionary<string, string> DelimitedForm = new()
    {
        ["separator"] = ",",
        ["quote"] = "\"",
        ["encoding"] = "utf-8",
        ["header"] = "yes",
        ["decimal-mark"] = ".",
        ["dates"] = "YYYY-MM-DD",
        ["null"] = "\\N"
    };

    /// <summary>A text as YAML writes it in any case.</summary>
    public static string Quoted(string text) => System.Text.Json.JsonSerializer.Serialize(text);

    /// <summary>Writes the tables of version 1 into a new store.</summary>
    public static void Fill(StoreAddress store, string code, int records) => Fill(store, Items(code, records));

    private static IEnumerable<object?[]> Items(string code, int records) => Enumerable.Range(1, records).Select(i =>
        (object?[])[(long)i, $"{code} item {i}", (Int128)(i * 1000 + code.Length), new DateOnly(2024, 1, 1).AddDays(i), i % 3 == 0 ? null
            : (long)(i % 2 + 1)]);

    private static void Fill(StoreAddress store, IEnumerable<object?[]> items)
    {
        using IStoreBuilder builder = new StoreOpener().Create(store);
        foreach (TableShape table in Tables) builder.CreateTable(table);
        Add(builder, Tables[0], ["DATA", "1"]);
        Add(builder, Tables[1], [1L, "brass"], [2L, "wood"]);
        Add(builder, Tables[2], [.. items]);
        builder.Complete(new Dictionary<string, string>());
    }

    private static void Add(IStoreBuilder builder, TableShape table, params object?[][] rows)
    {
        var batch = new RecordBatch(table.Columns);
        foreach (object?[] row in rows)
            for (int column = 0; column < row.Length; column++) MemoryStore.Append(batch.Vectors[column], row[column]);
        var rejects = new List<RowReject>();
        builder.Write([new TableOutput(table, batch.Vectors)], [.. Enumerable.Range(0, rows.Length)], rejects);
        Assert.Empty(rejects);
    }

    /// <summary>Writes office.yaml, with the words that are needed already given.</summary>
    public OddOffice Ready(string name = "office.yaml")
    {
        WriteOffice(name);
        string[] kit = BuiltProgram.RunsSomething(Path) ? ["--confirm", "kit"] : [];
        Called ready = Run(["ready", "--confirm", "one-disk", .. kit]);
        if (kit.Length > 0) BuiltProgram.Trusting(Path, ready);
        return this;
    }

    /// <summary>Writes office.yaml.</summary>
    public void WriteOffice(string name = "office.yaml")
    {
        var text = new StringBuilder("office: Odd\npackages:\n  - kit: kit\n    wanted-version: \"2\"\n    companies:\n");
        foreach (OddCompany company in Companies)
        {
            text.AppendLine(System.Globalization.CultureInfo.InvariantCulture,
                $"      - code: {company.Code}\n        name: {company.Code}\n        store: {company.Yaml}");
            foreach (string more in company.More) text.AppendLine("        " + more);
        }
        foreach (string more in More) text.AppendLine(more);
        Write(name, text.ToString());
    }

    /// <summary>Runs a command; of kits that run programs or scripts, the word for them is given first where one is needed.</summary>
    public Called Run(params string[] arguments) => BuiltProgram.Run(Path, BuiltProgram.Trusted(Path, arguments));

    /// <summary>Upgrades all companies.</summary>
    public Called Upgrade(params string[] more) => Run(["upgrade", .. Companies.SelectMany(company => (string[])["--yes", company.Code]),
        .. more]);

    /// <summary>What an independent reader sees of the records of a store: every row of every table, in order.</summary>
    public static IReadOnlyList<string> Rows(StoreAddress store)
    {
        using IStore opened = new StoreOpener().Open(store);
        var rows = new List<string>();
        foreach (TableShape table in opened.ReadShape())
            foreach (RecordBatch batch in opened.Batches(table, [], CancellationToken.None))
                for (int row = 0; row < batch.RowCount; row++)
                    rows.Add($"{table.Name.ToLowerInvariant()}: {string.Join(" | ", batch.Vectors.Select(vector => vector.Show(row)))}");
        rows.Sort(StringComparer.Ordinal);
        return rows;
    }

    /// <summary>Every file and folder below a folder, with its digest.</summary>
    public IReadOnlyDictionary<string, string> Signature(string relative) => TempFolder.Signature(this[relative]);

    public void Dispose() => _folder.Dispose();
}
