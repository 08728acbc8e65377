// GrowthOffice.cs: an office of any size in one direction: more records, tables, columns, longer values, more documents, companies, faults,
// differences, exceptions or hops. Its stores are SQLite files, or databases of a server (GrowthServer.cs).
using System.Globalization;
using System.Text;

namespace Transferra.Benchmarks;

/// <summary>How large an office is.</summary>
internal sealed record GrowthShape
{
    /// <summary>Engine of the stores.</summary>
    public string Engine { get; init; } = "sqlite";

    /// <summary>Tables of a company, beside the one that tells its version.</summary>
    public int Tables { get; init; } = 1;

    /// <summary>Records of each table.</summary>
    public int Rows { get; init; } = 20_000;

    /// <summary>Columns of each table beside its key.</summary>
    public int Columns { get; init; } = 6;

    /// <summary>Bytes of the long value of each record; 0 for none.</summary>
    public int ValueBytes { get; init; }

    /// <summary>Small documents of each company.</summary>
    public int Documents { get; init; }

    /// <summary>Companies.</summary>
    public int Companies { get; init; } = 1;

    /// <summary>Records with a date that is none, for the check to find.</summary>
    public int Findings { get; init; }

    /// <summary>Records that no rule can convert.</summary>
    public int Exceptions { get; init; }

    /// <summary>Records that are altered in the new store after the conversion.</summary>
    public int Differences { get; init; }

    /// <summary>Whether the first table has an index of a text and one of two columns.</summary>
    public bool IsIndexed { get; init; }

    /// <summary>Hops from the version found to the one wanted.</summary>
    public int Hops { get; init; } = 1;
}

internal static class GrowthOffice
{
    /// <summary>Makes it.</summary>
    public static void Make(string folder, GrowthShape shape)
    {
        WriteKit(Path.Combine(folder, "kit"), shape);
        var office = new StringBuilder(string.Create(CultureInfo.InvariantCulture,
            $"office: Growth\npackages:\n  - kit: kit\n    wanted-version: \"{shape.Hops + 1}\"\n    companies:\n"));
        for (int company = 0; company < shape.Companies; company++)
        {
            string code = CodeOf(company), data = Path.Combine(folder, "data", code);
            Directory.CreateDirectory(Path.Combine(data, "documents"));
            office.Append(CultureInfo.InvariantCulture, $"      - code: {code}\n        name: {code}\n");
            string store = shape.Engine == "sqlite" ? $"{{sqlite: data/{code}/books.db}}" : GrowthServer.Make(shape.Engine, shape);
            office.Append(CultureInfo.InvariantCulture, $"        store: {store}\n");
            if (shape.Documents > 0) office.Append(CultureInfo.InvariantCulture, $"        documents: [data/{code}/documents]\n");
            if (shape.Engine == "sqlite") Fill(Path.Combine(data, "books.db"), shape);
            WriteDocuments(Path.Combine(data, "documents"), shape.Documents);
        }
        File.WriteAllText(Path.Combine(folder, "office.yaml"), office.Append("backup: {to: [sets]}\n").ToString());
    }

    /// <summary>Code of a company by its number.</summary>
    public static string CodeOf(int company) => string.Create(CultureInfo.InvariantCulture, $"C{company:000}");

    private static void WriteKit(string folder, GrowthShape shape)
    {
        Directory.CreateDirectory(Path.Combine(folder, "versions"));
        Directory.CreateDirectory(Path.Combine(folder, "hops"));
        IEnumerable<int> versions = Enumerable.Range(1, shape.Hops + 1), hops = Enumerable.Range(1, shape.Hops);
        File.WriteAllText(Path.Combine(folder, "kit.yaml"), "kit: growth\ntitle: Growth\n"
            + string.Create(CultureInfo.InvariantCulture, $"versions: [{string.Join(", ", versions.Select(one => $"\"{one}\""))}]\n")
            + $"hops: [{string.Join(", ", hops.Select(hop => HopName(hop)))}]\n");
        foreach (int version in versions)
            File.WriteAllText(Path.Combine(folder, "versions", FormattableString.Invariant($"{version}.yaml")), string.Create(
                CultureInfo.InvariantCulture,
                $"version: \"{version}\"\ntold-by: [{{table: VER, column: VAL, where: \"WHAT = 'DATA'\", is: \"{version}\"}}]\n"));
        foreach (int hop in hops)
            File.WriteAllText(Path.Combine(folder, "hops", HopName(hop) + ".yaml"), FormattableString.Invariant(
                $"hop: {{from: \"{hop}\", to: \"{hop + 1}\"}}\ntables:\n  - {{from: VER, into: {{VER: {{VAL: \"'{hop + 1}'\"}}}}, ")
                + "columns-left-out: {VAL: the version is a new one}}\n"
                + (shape.Exceptions > 0 ? "  - {from: t0, into: {t0: {told: CAST(told AS DATE)}}}\n" : ""));
    }

    private static string HopName(int hop) => FormattableString.Invariant($"{hop}-to-{hop + 1}");

    private static void Fill(string path, GrowthShape shape)
    {
        var sql = new StringBuilder("PRAGMA journal_mode = OFF; PRAGMA synchronous = OFF; CREATE TABLE VER (WHAT VARCHAR(10) PRIMARY KEY, "
            + "VAL VARCHAR(10)); INSERT INTO VER VALUES ('DATA', '1'); BEGIN;");
        for (int table = 0; table < shape.Tables; table++)
        {
            string columns = string.Concat(Enumerable.Range(0, shape.Columns).Select(at => string.Create(CultureInfo.InvariantCulture,
                $", c{at} {(at % 3) switch { 0 => "INTEGER", 1 => "VARCHAR(40)", _ => "DECIMAL(14,2)" }}"))),
                values = string.Concat(Enumerable.Range(0, shape.Columns).Select(at => string.Create(CultureInfo.InvariantCulture,
                    $", {(at % 3) switch { 0 => $"i % 977 + {at}", 1 => "'text of record ' || i", _ => "i * 7919 % 1000003 / 100.0" }}")));
            sql.Append(FormattableString.Invariant($"""
                CREATE TABLE t{table} (id INTEGER PRIMARY KEY, made DATE, told VARCHAR(10), long BLOB{columns});
                WITH RECURSIVE c(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM c WHERE i < {shape.Rows})
                INSERT INTO t{table} SELECT i, CASE WHEN i % {Apart(shape, shape.Findings)} = 0 THEN '2026-13-45' ELSE '2026-01-15' END,
                    CASE WHEN i % {Apart(shape, shape.Exceptions)} = 0 THEN 'never' ELSE '2026-02-17' END,
                    {(shape.ValueBytes > 0 ? FormattableString.Invariant($"randomblob({shape.ValueBytes})") : "NULL")}{values} FROM c;
                """));
        }
        if (shape.IsIndexed) sql.Append("CREATE INDEX t0_text ON t0 (c1); CREATE INDEX t0_both ON t0 (c0, c2);");
        WholeCommand.Ask(path, sql.Append("COMMIT").ToString());
    }

    /// <summary>Every how-many-th record is one of so many of a table; beyond all of them when there is none.</summary>
    public static int Apart(GrowthShape shape, int wanted) => wanted == 0 ? int.MaxValue : Math.Max(1, shape.Rows / wanted);

    private static void WriteDocuments(string folder, int documents)
    {
        for (int i = 0; i < documents; i++)
        {
            string part = Path.Combine(folder, (i / 500).ToString("0000", CultureInfo.InvariantCulture));
            if (i % 500 == 0) Directory.CreateDirectory(part);
            File.WriteAllText(Path.Combine(part, FormattableString.Invariant($"letter {i}.txt")), FormattableString.Invariant(
                $"Dear customer {i}, thank you for your order of {i * 7919L % 1000003}."));
        }
    }
}
