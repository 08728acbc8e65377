// PlantedCompany.cs: a small company in memory that is sound, and into which one fault of each kind can be planted.
using Transferra.Core.Checks;
using Transferra.Core.Kits;
using Transferra.Core.Means;
using Transferra.Core.Records;

namespace Transferra.Tests;

internal sealed class PlantedCompany : IDisposable
{
    public const string Description = """
        version: "1"
        told-by: [{header: user_version, is: "1"}]
        tables:
          INVOICE:
            columns: {INO: INTEGER NOT NULL, SUPPLIER: INTEGER, REFNO: VARCHAR(10), ISSUED: DATE, NET: "DECIMAL(10,2)",
              TAX: "DECIMAL(10,2)", GROSS: "DECIMAL(10,2)", STATUS: VARCHAR(1), SCAN: VARCHAR(40), PERIOD: INTEGER, NOTE: VARCHAR(12)}
            key: [INO]
            relations: [{columns: [SUPPLIER], to: SUPPLIER, on: [SNO]}]
            no-two: [{columns: [SUPPLIER, REFNO], because: an invoice is entered once}]
            codes: {STATUS: [O, P]}
            dates: {ISSUED: {from: 2000-01-01, to: 2040-12-31}}
            series: [{name: invoice numbers, number: INO}]
            files: [{column: SCAN, in: scans}]
          SUPPLIER:
            columns: {SNO: INTEGER NOT NULL, NAME: VARCHAR(20), PARENT: INTEGER, BALANCE: "DECIMAL(10,2)"}
            key: [SNO]
            filled: [NAME]
            tree: {parent: PARENT, of: SNO}
            private: [NAME]
          PERIOD:
            columns: {PNO: INTEGER NOT NULL, OPENING: "DECIMAL(10,2)", CLOSING: "DECIMAL(10,2)", CLOSED_ON: DATE}
            key: [PNO]
          VOUCHER:
            columns: {VNO: INTEGER, YR: INTEGER, AMOUNT: "DECIMAL(10,2)"}
            series: [{name: vouchers of a year, number: VNO, by: [YR]}]
        rules:
          - {name: gross, table: INVOICE, holds: GROSS = NET + TAX}
          - name: no entry in a closed period
            table: INVOICE
            lookups: {period: {by: PERIOD, table: PERIOD, on: PNO}}
            holds: period.CLOSED_ON IS NULL OR ISSUED <= period.CLOSED_ON
          - name: balance of a supplier
            table: SUPPLIER
            by: [SNO]
            sum: BALANCE
            equals: {table: INVOICE, by: [SUPPLIER], sum: GROSS, where: "STATUS = 'O'"}
            tolerance: "0.01"
          - name: opening equals last closing
            table: PERIOD
            by: [PNO]
            sum: OPENING
            equals: {table: PERIOD, by: [PNO + 1], sum: CLOSING}
            only-common: yes
          - {name: vouchers balance, table: VOUCHER, by: [YR], sum: AMOUNT, must-be: "0"}
        """;

    private static readonly DateOnly Day = new(2024, 3, 1);

    public static KitVersion Load(string? version = null)
    {
        using var folder = new TempFolder();
        folder.Write("kit.yaml", "kit: planted\ntitle: Planted\nversions: [\"1\"]\n");
        folder.Write("versions/1.yaml", version ?? Description);
        var errors = new DescriptionErrors();
        Kit? kit = KitLoader.Load(folder.Path, "kits/planted", KnownKinds.All, errors);
        errors.ThrowIfAny();
        return kit!.Versions[0];
    }

    private static object?[] Invoice(long number, long? supplier = 1, string? reference = null, DateOnly? issued = null, int net = 1000,
        int tax = 200,
        int gross = 1200, string? status = "P", string? scan = null, long period = 2, string? note = null) =>
        [number, supplier, reference ?? "R" + number, issued ?? Day, (Int128)net, (Int128)tax, (Int128)gross, status, scan, period, note];

    private static object?[] Supplier(long number, string? name = "Reedhouse", long? parent = null, int balance = 0) =>
        [number, name, parent, (Int128)balance];

    private long _next = 4;

    public TempFolder Folder { get; } = new();
    public KitVersion Version { get; } = Load();
    public MemoryStore Store { get; } = new();

    public PlantedCompany()
    {
        Store.With(Version.Table("INVOICE")!, Invoice(1, status: "O", scan: "scans\\a.png"), Invoice(2, supplier: 2),
            Invoice(3, scan: "a.png"));
        Store.With(Version.Table("SUPPLIER")!, Supplier(1, balance: 1200), Supplier(2, parent: 1));
        Store.With(Version.Table("PERIOD")!, [1L, (Int128)0, (Int128)500, new DateOnly(2024, 1, 31)], [2L, (Int128)500, (Int128)700, null]);
        Store.With(Version.Table("VOUCHER")!, [1L, 2023L, (Int128)100], [2L, 2023L, (Int128)(-100)], [1L, 2024L, (Int128)5],
            [2L, 2024L, (Int128)(-5)]);
        Folder.Write("scans/a.png", "picture");
    }

    public List<object?[]> this[string table] => Store.Tables[table].Rows;

    public string Lists => Path.Combine(Folder.Path, "lists");

    /// <summary>Checks the company, or the same in another store.</summary>
    public IReadOnlyList<Finding> Check(IStore? elsewhere = null)
    {
        Directory.CreateDirectory(Lists);
        return new CompanyCheck(Version, null, new Dictionary<string, string>(), new ListObserver(),
            CancellationToken.None)
        { DocumentFolders = [Path.Combine(Folder.Path, "scans")], ListFolder = Lists }.Run(elsewhere ?? Store).Findings;
    }

    public void Dispose()
    {
        Store.Dispose();
        Folder.Dispose();
    }

    /// <summary>Plants a fault.</summary>
    public void Plant(string what)
    {
        switch (what)
        {
            case "copy": this["INVOICE"].Add(this["INVOICE"][2]); break;
            case "conflict": this["SUPPLIER"].Add(Supplier(2, name: "Other")); break;
            case "business key": this["INVOICE"].Add(Invoice(_next++, reference: "R1")); break;
            case "orphan": this["INVOICE"].Add(Invoice(_next++, supplier: 9)); break;
            case "circle of two": this["SUPPLIER"][0][2] = 2L; break;
            case "circle of one": this["SUPPLIER"][1][2] = 2L; break;
            case "gap": this["INVOICE"].Add(Invoice((_next += 4) - 1)); break;
            case "gap in a group": this["VOUCHER"].Add([4L, 2024L, (Int128)0]); break;
            case "repeat": this["VOUCHER"].Add([2L, 2024L, (Int128)0]); break;
            case "control": this["INVOICE"].Add(Invoice(_next++, note: "a\u0001b")); break;
            case "twice": this["INVOICE"].Add(Invoice(_next++, note: "FlÃ¼gel")); break;
            case "too long": this["INVOICE"].Add(Invoice(_next++, note: "thirteen char")); break;
            case "code": this["INVOICE"].Add(Invoice(_next++, status: "X")); break;
            case "date": this["INVOICE"].Add(Invoice(_next++, issued: new DateOnly(1919, 1, 1))); break;
            case "blank": this["SUPPLIER"].Add(Supplier(3, name: "  ")); break;
            case "missing": this["PERIOD"].Add([null, (Int128)0, (Int128)0, null]); break;
            case "record rule": this["INVOICE"].Add(Invoice(_next++, gross: 1201)); break;
            case "closed period": this["INVOICE"].Add(Invoice(_next++, period: 1)); break;
            case "control account": this["SUPPLIER"][0][3] = (Int128)1202; break;
            case "opening": this["PERIOD"][1][1] = (Int128)501; break;
            case "voucher": this["VOUCHER"][2][2] = (Int128)6; break;
            case "file gone": this["INVOICE"].Add(Invoice(_next++, scan: "b.png")); break;
            case "file in capitals": this["INVOICE"].Add(Invoice(_next++, scan: "A.PNG")); break;
            case "file of nobody": Folder.Write("scans/c.png", "picture"); break;
            default: throw new ArgumentException(what, nameof(what));
        }
    }
}
