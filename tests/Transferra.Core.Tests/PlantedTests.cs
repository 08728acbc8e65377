// PlantedTests.cs: for each kind of finding a record that has it, in a company that is sound but for that; and the sound company itself.
using Transferra.Core.Checks;
using Transferra.Core.Kits;
using Transferra.Tests;

namespace Transferra.Core.Tests;

public class PlantedTests
{
    private const string Version = """
        version: "1"
        told-by: [{header: user_version, is: "1"}]
        tables:
          INVOICE:
            columns: {INO: INTEGER NOT NULL, SUPPLIER: INTEGER, REFNO: VARCHAR(10), ISSUED: DATE, NET: "DECIMAL(10,2)", TAX: "DECIMAL(10,2)", GROSS: "DECIMAL(10,2)", STATUS: VARCHAR(1), SCAN: VARCHAR(40), PERIOD: INTEGER, NOTE: VARCHAR(12)}
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

    private static KitVersion Load(string? version = null)
    {
        using var folder = new TempFolder();
        folder.Write("kit.yaml", "kit: planted\ntitle: Planted\nversions: [\"1\"]\n");
        folder.Write("versions/1.yaml", version ?? Version);
        var errors = new DescriptionErrors();
        Kit? kit = KitLoader.Load(folder.Path, "kits/planted", errors);
        errors.ThrowIfAny();
        return kit!.Versions[0];
    }

    private static object?[] Invoice(long number, long? supplier = 1, string? reference = null, DateOnly? issued = null, int net = 1000, int tax = 200, int gross = 1200, string? status = "P", string? scan = null, long period = 2, string? note = null) =>
        [number, supplier, reference ?? "R" + number, issued ?? Day, (Int128)net, (Int128)tax, (Int128)gross, status, scan, period, note];

    private static object?[] Supplier(long number, string? name = "Reedhouse", long? parent = null, int balance = 0) => [number, name, parent, (Int128)balance];

    private sealed class Company : IDisposable
    {
        public TempFolder Folder { get; } = new();
        public KitVersion Version { get; } = Load();
        public MemoryStore Store { get; } = new();

        public Company()
        {
            Store.With(Version.Table("INVOICE")!, Invoice(1, status: "O", scan: "scans\\a.png"), Invoice(2, supplier: 2), Invoice(3, scan: "a.png"));
            Store.With(Version.Table("SUPPLIER")!, Supplier(1, balance: 1200), Supplier(2, parent: 1));
            Store.With(Version.Table("PERIOD")!, [1L, (Int128)0, (Int128)500, new DateOnly(2024, 1, 31)], [2L, (Int128)500, (Int128)700, null]);
            Store.With(Version.Table("VOUCHER")!, [1L, 2023L, (Int128)100], [2L, 2023L, (Int128)(-100)], [1L, 2024L, (Int128)5], [2L, 2024L, (Int128)(-5)]);
            Folder.Write("scans/a.png", "picture");
        }

        public List<object?[]> this[string table] => Store.Tables[table].Rows;

        public string Lists => Path.Combine(Folder.Path, "lists");

        public IReadOnlyList<Finding> Check()
        {
            Directory.CreateDirectory(Lists);
            return new CompanyCheck(Version, null, new Dictionary<string, string>(), new ListObserver(), CancellationToken.None) { DocumentFolders = [Path.Combine(Folder.Path, "scans")], ListFolder = Lists }.Run(Store).Findings;
        }

        public void Dispose()
        {
            Store.Dispose();
            Folder.Dispose();
        }
    }

    public static TheoryData<string, string, long, string> Planted => new()
    {
        { "copy", FindingKinds.ExactCopies, 1, "3" },
        { "conflict", FindingKinds.ConflictingKey, 2, "2" },
        { "business key", FindingKinds.BusinessKey, 2, "1: \"1 / R1\"" },
        { "orphan", FindingKinds.Orphan, 1, "4: \"9\"" },
        { "circle of two", FindingKinds.Cycle, 2, "1: \"2\"" },
        { "circle of one", FindingKinds.Cycle, 1, "2: \"2\"" },
        { "gap", FindingKinds.SeriesGap, 3, "4 to 6" },
        { "gap in a group", FindingKinds.SeriesGap, 1, "2024: 3" },
        { "repeat", FindingKinds.SeriesRepeat, 2, "2024: 2 (2 records)" },
        { "control", FindingKinds.ControlCharacters, 1, "4: \"a\u0001b\"" },
        { "twice", FindingKinds.DecodedTwice, 1, "4: \"FlÃ¼gel\"" },
        { "too long", FindingKinds.TooLong, 1, "4: \"thirteen char\"" },
        { "code", FindingKinds.NotInList, 1, "4: \"X\"" },
        { "date", FindingKinds.ImplausibleDate, 1, "4: \"1919-01-01\"" },
        { "blank", FindingKinds.Blank, 1, "3" },
        { "missing", FindingKinds.Blank, 1, "" },
        { "record rule", FindingKinds.RuleBroken, 1, "4" },
        { "closed period", FindingKinds.RuleBroken, 1, "4" },
        { "control account", FindingKinds.RuleBroken, 1, "1: 12.02 against 12.00" },
        { "opening", FindingKinds.RuleBroken, 1, "2: 5.01 against 5.00" },
        { "voucher", FindingKinds.RuleBroken, 1, "2024: 0.01" },
        { "file gone", FindingKinds.DocumentMissing, 1, "4: \"b.png\"" },
        { "file in capitals", FindingKinds.DocumentMisspelt, 1, "4: \"A.PNG\"" },
        { "file of nobody", FindingKinds.DocumentUnclaimed, 1, "c.png" },
    };

    [Theory]
    [MemberData(nameof(Planted))]
    public void Each_planted_fault_is_found_and_nothing_else(string what, string kind, long count, string example)
    {
        using var company = new Company();
        Plant(company, what);
        Finding finding = Assert.Single(company.Check());
        Assert.Equal((kind, count), (finding.Kind, finding.Count));
        Assert.Equal(example, finding.Examples[0]);
        Assert.NotNull(FindingKinds.Help(finding.Kind));
        string[] list = File.ReadAllLines(Path.Combine(company.Lists, finding.List));
        Assert.Equal(kind is FindingKinds.SeriesGap or FindingKinds.SeriesRepeat ? 1 : count, list.Length - 1);
    }

    private static void Plant(Company company, string what)
    {
        switch (what)
        {
            case "copy": company["INVOICE"].Add(company["INVOICE"][2]); break;
            case "conflict": company["SUPPLIER"].Add(Supplier(2, name: "Other")); break;
            case "business key": company["INVOICE"].Add(Invoice(4, reference: "R1")); break;
            case "orphan": company["INVOICE"].Add(Invoice(4, supplier: 9)); break;
            case "circle of two": company["SUPPLIER"][0][2] = 2L; break;
            case "circle of one": company["SUPPLIER"][1][2] = 2L; break;
            case "gap": company["INVOICE"].Add(Invoice(7)); break;
            case "gap in a group": company["VOUCHER"].Add([4L, 2024L, (Int128)0]); break;
            case "repeat": company["VOUCHER"].Add([2L, 2024L, (Int128)0]); break;
            case "control": company["INVOICE"].Add(Invoice(4, note: "a\u0001b")); break;
            case "twice": company["INVOICE"].Add(Invoice(4, note: "FlÃ¼gel")); break;
            case "too long": company["INVOICE"].Add(Invoice(4, note: "thirteen char")); break;
            case "code": company["INVOICE"].Add(Invoice(4, status: "X")); break;
            case "date": company["INVOICE"].Add(Invoice(4, issued: new DateOnly(1919, 1, 1))); break;
            case "blank": company["SUPPLIER"].Add(Supplier(3, name: "  ")); break;
            case "missing": company["PERIOD"].Add([null, (Int128)0, (Int128)0, null]); break;
            case "record rule": company["INVOICE"].Add(Invoice(4, gross: 1201)); break;
            case "closed period": company["INVOICE"].Add(Invoice(4, period: 1)); break;
            case "control account": company["SUPPLIER"][0][3] = (Int128)1202; break;
            case "opening": company["PERIOD"][1][1] = (Int128)501; break;
            case "voucher": company["VOUCHER"][2][2] = (Int128)6; break;
            case "file gone": company["INVOICE"].Add(Invoice(4, scan: "b.png")); break;
            case "file in capitals": company["INVOICE"].Add(Invoice(4, scan: "A.PNG")); break;
            case "file of nobody": company.Folder.Write("scans/c.png", "picture"); break;
            default: throw new ArgumentException(what, nameof(what));
        }
    }

    [Fact]
    public void A_sound_company_gives_no_finding()
    {
        using var company = new Company();
        Assert.Empty(company.Check());
        Assert.Empty(Directory.EnumerateFiles(company.Lists));
    }

    [Fact]
    public void Private_values_reach_neither_examples_nor_lists()
    {
        using var company = new Company();
        company["SUPPLIER"].Add(Supplier(3, name: "Vivaldi\u0002"));
        Finding finding = Assert.Single(company.Check());
        Assert.Equal(["3: \"(private)\""], finding.Examples);
        Assert.DoesNotContain("Vivaldi", File.ReadAllText(Path.Combine(company.Lists, finding.List)), StringComparison.Ordinal);
    }

    [Theory]
    [InlineData("FlÃ¼gel", "Flügel")]
    [InlineData("CafÃ©", "Café")]
    [InlineData("â€œquotedâ€\u009D", "\u201Cquoted\u201D")]
    [InlineData("├®t├®", "été")] // read as ibm850
    [InlineData("Flügel", null)]
    [InlineData("Ã", null)]
    [InlineData("plain", null)]
    [InlineData("", null)]
    public void Text_that_was_decoded_twice_is_told_and_decoded_again(string text, string? right) =>
        Assert.Equal(right, new DecodedTwice("ibm850").Again(System.Text.Encoding.UTF8.GetBytes(text)));

    [Theory]
    [InlineData(1)]
    [InlineData(3)]
    [InlineData(64)]
    [InlineData(100_000)]
    public void Sorting_gives_every_item_once_whatever_fits_in_memory(int runLength)
    {
        var random = new Random(7);
        ulong[] items = [.. Enumerable.Range(0, 5_000).Select(_ => (ulong)random.Next(2_000))];
        using var all = new SpillSorter<ulong>(null, runLength);
        using var distinct = new SpillSorter<ulong>((a, _) => a, runLength);
        foreach (ulong item in items)
        {
            all.Add(item);
            distinct.Add(item);
        }
        Assert.Equal(items.Order(), all.Sorted());
        distinct.Park();
        distinct.Add(3_000);
        Assert.Equal(items.Append(3_000UL).Distinct().Order(), distinct.Sorted());
        Assert.Equal(items.Append(3_000UL).Distinct().Order(), distinct.Sorted()); // may be asked for again
    }

    [Fact]
    public void A_rule_that_cannot_be_read_says_where()
    {
        string wrong = Version.Replace("by: [SUPPLIER], sum: GROSS", "by: [REFNO], sum: GROSS", StringComparison.Ordinal).Replace("holds: GROSS = NET + TAX", "holds: NET + TAX", StringComparison.Ordinal)
            .Replace("parent: PARENT", "parent: NOBODY", StringComparison.Ordinal) + """

            mends:
              - {drop-copies: NOWHERE, because: x}
              - {trim: INVOICE, columns: [NET], because: x}
              - {recompute: gross, column: GROSS, because: x}
            """;
        IReadOnlyList<DescriptionError> errors = Assert.Throws<DescriptionException>(() => Load(wrong)).Errors;
        string[] expected = ["no column NOBODY", "a condition is wanted", "REFNO is VARCHAR(10)", "no table NOWHERE", "no text column NET", "no rule \"gross\" with \"equals\""];
        Assert.All(expected, text => Assert.Contains(errors, error => error.What.Contains(text, StringComparison.Ordinal)));
        Assert.All(errors, error => Assert.True(error.Line > 1, error.ToString()));
    }
}
