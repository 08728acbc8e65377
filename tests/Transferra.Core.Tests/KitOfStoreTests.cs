using Transferra.Core.Conversion;
using Transferra.Core.Expressions;
using Transferra.Core.Kits;
using Transferra.Core.Machine;
using Transferra.Core.Means;
using Transferra.Core.Records;
using Transferra.Tests;

namespace Transferra.Core.Tests;

/// <summary>Kits in which nothing is written twice: versions that are the same as another one or as the store, and hops that say only what
/// differs.</summary>
public sealed class KitOfStoreTests
{
    private const string Head = "kit: k\ntitle: K\ntold-by: [{header: user_version}]\n";

    private static Kit? Load(string kit, DescriptionErrors errors)
    {
        using var folder = new TempFolder();
        folder.Write("kit.yaml", Head + kit);
        return KitLoader.Load(folder.Path, "kits/k", KnownKinds.All, errors);
    }

    private static Kit Load(string kit)
    {
        var errors = new DescriptionErrors();
        Kit? loaded = Load(kit, errors);
        errors.ThrowIfAny();
        return loaded!;
    }

    private static FieldType Text(int length) => FieldType.TryParse($"VARCHAR({length})", out FieldType type) ? type : FieldType.Text;

    private static TableShape[] Store =>
    [
        new("CUST", [new("NO", FieldType.Integer, true), new("NAME", Text(40)), new("PHONE", Text(20)),
            new("LIM", Text(12)), new("FAX", Text(1))], ["NO"], []) { NumberedColumn = "NO" },
        new("ORD", [new("ID", FieldType.Integer, true), new("CNO", FieldType.Integer), new("STAT", Text(1)),
            new("DR", Text(12)), new("CR", Text(12))], ["ID"],
            [new RelationShape(["CNO"], "CUST", ["NO"])]) { Indexes = [new IndexShape("i", ["CNO", "STAT"], false)] },
        new("OWN", [new("A", FieldType.Integer, true), new("B", FieldType.Text)], ["A"], [new RelationShape(["A"], "CUST", ["NO"])]),
    ];

    private static MemoryStore StoreWith()
    {
        var store = new MemoryStore();
        foreach (TableShape table in Store) store.With(table);
        return store;
    }

    private static KitVersion Over(Kit kit, string version)
    {
        MemoryStore store = StoreWith();
        return CustomFields.Of(store, kit.Version(version)!).In(kit.Version(version)!);
    }

    private static Correspondence Hop(string kit)
    {
        MemoryStore store = StoreWith();
        Kit loaded = Load(kit);
        return CustomFields.Of(store, loaded.Versions[0]).In([loaded.Hops[0].Correspondence])[0];
    }

    private static string Shown(TableShape table) => $"{table.Name}({string.Join(", ", table.Columns.Select(column =>
        $"{column.Name} {column.Type}{(column.Required ? "!" : "")}{(column.IsPrivate ? "?" : "")}"))}) key {string.Join("+", table.Key)}"
        + string.Concat(table.Relations.Select(link => $" {string.Join("+", link.Columns)}>{link.To}.{string.Join("+", link.On)}"));

    private static string Shown(TableMap map) => $"{map.From.Name}: " + string.Join("; ", map.Into.Select(target =>
        $"{target.Table.Name} {string.Join(", ", target.Columns.Select(column => column.Column.Name + (column.Value is ColumnReference old
            ? "=" + old.Name : "")))}"));

    [Fact]
    public void What_is_said_of_some_columns_leaves_the_others_as_they_are()
    {
        KitVersion version = Over(Load("""
            versions:
              - version: "1"
                same-as: the-store
                tables:
                  cust: {columns: {LIM: "DECIMAL(14,2)"}, private: [PHONE], filled: [NAME]}
                rules: [{name: no order without a customer, table: ORD, holds: CNO IS NOT NULL}]
                control-totals: [{name: orders, table: ord, by: [STAT]}]
                mends: [{trim: CUST, columns: [NAME], because: blanks}]
            """), "1");
        Assert.Equal("CUST(NO INTEGER!, NAME VARCHAR(40), PHONE VARCHAR(20)?, LIM DECIMAL(14,2), FAX VARCHAR(1)) key NO",
            Shown(version.Table("CUST")!));
        Assert.Equal(Shown(Store[1]), Shown(version.Table("ORD")!));
        Assert.Equal(["CUST", "ORD", "OWN"], version.Tables.Select(table => table.Name));
        Assert.Equal("no order without a customer", Assert.Single(version.Rules).Name);
        Assert.Equal("ORD", Assert.Single(version.ControlTotals).Sum!.Table.Name);
        Assert.Equal(["NAME"], Assert.Single(version.Checks).Filled);
        Assert.Equal("CUST", Assert.Single(version.Mends).Table!.Name);
    }

    [Fact]
    public void What_is_private_is_known_before_the_store_is()
    {
        KitVersion version = Load("versions: [{version: \"1\", tables: {CUST: {private: [PHONE], masked-outside: [LIM]}}}]\n").Versions[0];
        Assert.True(version.IsOfStore);
        Assert.True(version.IsPrivate("cust", "phone"));
        Assert.False(version.IsPrivate("cust", "name"));
        Assert.Equal(["CUST.LIM"], version.Masked);
    }

    // What the kit names and the store does not have, and the words for it.
    [Theory]
    [InlineData("tables: {CUSTT: {private: [PHONE]}}", "there is no table CUSTT in the store; did you mean CUST?")]
    [InlineData("tables: {CUST: {private: [PHOEN]}}", "the table CUST has no column PHOEN; did you mean PHONE?")]
    [InlineData("same-as: the-store, tables: {CUST: {columns: {LIMIT: TEXT}, private: [PHONE]}, ORD: {key: [ID]}}",
        "the table CUST has no column LIMIT")]
    [InlineData("rules: [{name: r, table: ORDR, holds: 1 = 1}]", "there is no table ORDR in this version; did you mean ORD?")]
    [InlineData("rules: [{name: r, table: ORD, holds: STATE = 'O'}]", "there is no column STATE in ORD")]
    [InlineData("control-totals: [{name: t, table: ORD, by: [X9]}]", "no column X9")]
    [InlineData("control-totals: [{name: t, decimals: 2, table: ORD, sum: CNO}]", "a total with 2 decimals adds up DECIMAL(p,2)")]
    public void What_the_store_does_not_have_is_told_when_it_is_there(string said, string words)
    {
        Kit kit = Load($"versions: [{{version: \"1\", {said}}}]\n");
        TransferraException error = Assert.Throws<TransferraException>(() => Over(kit, "1"));
        Assert.Contains(words, error.Message, StringComparison.Ordinal);
        Assert.Contains("kits/k/kit.yaml:4:", error.Message, StringComparison.Ordinal);
    }

    // What can be seen without a store is told without one, and only that.
    [Theory]
    [InlineData("tables: {CUST: {private: [PHONE], filed: [NAME]}}", "\"filed\" is not known here; did you mean filled?")]
    [InlineData("rules: [{name: r, table: ORD, holds: STAT = }]", "the expression ends where")]
    [InlineData("control-totals: [{name: t, sql: {sqlite: DROP TABLE ORD}}]", "a question to the engine begins with SELECT")]
    [InlineData("tables: {CUST: {columns: {LIM: DECIMAL(6,2), FAX: VARCHAR(2) NOT NULL}, key: [FAX]}}",
        "within { } a value with a comma stands in quotation marks; write \"DECIMAL(6,2)\"")]
    [InlineData("same-as: \"0\"", "there is no version 0 before this one")]
    public void What_is_wrong_in_itself_is_told_at_once_and_nothing_that_follows_from_it(string said, string words)
    {
        var errors = new DescriptionErrors();
        Load($"versions: [{{version: \"1\", {said}}}]\n", errors);
        DescriptionError error = Assert.Single(Assert.Throws<DescriptionException>(errors.ThrowIfAny).Errors);
        Assert.Contains(words, error.What, StringComparison.Ordinal);
        Assert.Equal(4, error.Line);
    }

    [Fact]
    public void A_version_that_is_the_same_as_another_says_only_what_differs()
    {
        Kit kit = Load("""
            versions:
              - version: "1"
                tables:
                  A: {columns: {ID: INTEGER NOT NULL, N: VARCHAR(5), GONE: TEXT}, key: [ID], filled: [N], codes: {N: [X]}}
                  B: {columns: {ID: INTEGER, AID: INTEGER}, relations: [{columns: [AID], to: A, on: [ID]}]}
                  OLD: {columns: {X: INTEGER}}
                rules:
                  - {name: r1, table: A, holds: ID > 0}
                  - {name: r2, table: A, holds: N <> 'Z'}
                control-totals: [{name: t, table: A}]
              - version: "2"
                same-as: "1"
                without: [OLD, A.GONE]
                tables:
                  A: {columns: {N: VARCHAR(9), NEU: DATE}, codes: {N: [X, Y]}}
                rules: [{name: r2, table: A, holds: N <> 'ZZ'}]
            hops:
              - hop: {from: "1", to: "2"}
                tables-left-out: {OLD: empty since version 0}
                tables:
                  - {from: A, into: {A: {NEU: "NULL"}}, columns-left-out: {GONE: never filled}}
            """);
        KitVersion two = kit.Version("2")!;
        Assert.False(two.IsOfStore);
        Assert.Equal(["A(ID INTEGER!, N VARCHAR(9), NEU DATE) key ID", "B(ID INTEGER, AID INTEGER) key  AID>A.ID"],
            two.Tables.Select(Shown));
        Assert.Equal(["X", "Y"], Assert.Single(two.Checks).Codes["N"]);
        Assert.Equal(["N"], two.Checks[0].Filled);
        Assert.Equal(["N <> 'ZZ'", "ID > 0"], two.Rules.Select(rule => rule.Name == "r1" ? "ID > 0" : "N <> 'ZZ'"));
        Assert.Equal("t", Assert.Single(two.ControlTotals).Name);
        Assert.Equal(["A: A ID=ID, N=N, NEU", "B: B ID=ID, AID=AID"], kit.Hops[0].Correspondence.Tables.Select(Shown));
    }

    [Theory]
    [InlineData("without: [A.NONE]", "there is no A.NONE in the version that this one is the same as")]
    [InlineData("tables: {C: {key: [ID]}}", "there is no table C in the version that this one is the same as")]
    [InlineData("without: [A.N]", "not all of it holds here: there is no column N in A")]
    [InlineData("tables: {A: {columns: {N: INTEGER}}}", "not all of it holds here: INTEGER and VARCHAR(1) cannot be compared")]
    public void What_does_not_hold_any_more_in_a_version_is_told_there(string said, string words)
    {
        var errors = new DescriptionErrors();
        Load("""
            versions:
              - version: "1"
                tables: {A: {columns: {ID: INTEGER, N: VARCHAR(5)}}}
                rules: [{name: r, table: A, holds: N <> 'Z'}]
              - {version: "2", same-as: "1", SAID}
            """.Replace("SAID", said, StringComparison.Ordinal), errors);
        DescriptionError error = Assert.Single(Assert.Throws<DescriptionException>(errors.ThrowIfAny).Errors);
        Assert.Contains(words, error.What, StringComparison.Ordinal);
        Assert.Equal(8, error.Line);
    }

    [Fact]
    public void A_hop_from_the_store_names_what_differs_and_the_rest_follows()
    {
        Correspondence hop = Hop("""
            versions:
              - {version: "1", tables: {CUST: {private: [NAME]}}}
              - {version: "2", same-as: the-store, tables: {customer: {columns: {LIM: "DECIMAL(14,2)"}}}}
            hops:
              - hop: {from: "1", to: "2"}
                tables:
                  - from: CUST
                    into: {customer: {customer_no: "NO", full_name: NAME, LIM: "CAST(LIM AS DECIMAL(14,2))"}}
                    columns-left-out: {FAX: nobody sends one}
                  - from: ORD
                    into: {ORD: {amount: "CAST(DR AS DECIMAL(14,2)) - CAST(CR AS DECIMAL(14,2))", is_open: "STAT = 'O'"}}
            """);
        Assert.Equal(["customer(customer_no INTEGER!, full_name VARCHAR(40)?, PHONE VARCHAR(20), LIM DECIMAL(14,2)) key customer_no",
            "ORD(ID INTEGER!, CNO INTEGER, amount DECIMAL(18,2), is_open BOOLEAN) key ID CNO>customer.customer_no",
            "OWN(A INTEGER!, B TEXT) key A A>customer.customer_no"], hop.To.Tables.Select(Shown));
        Assert.Equal(["CUST: customer customer_no=NO, full_name=NAME, PHONE=PHONE, LIM",
            "ORD: ORD ID=ID, CNO=CNO, amount, is_open", "OWN: OWN A=A, B=B"], hop.Tables.Select(Shown));
        Assert.Equal("customer_no", hop.To.Table("customer")!.NumberedColumn);
        Assert.Null(hop.Awaiting);
    }

    [Fact]
    public void What_an_old_column_becomes_under_its_own_name_leaves_the_others_in_place()
    {
        Correspondence hop = Hop("""
            versions: ["1", "2"]
            hops:
              - hop: {from: "1", to: "2"}
                tables:
                  - from: ORD
                    into: {ORD: {STAT: {is: "CASE CR WHEN 'x' THEN 'P' ELSE STAT END", changes: paid, compared-with: STAT}}}
                    rows-left-out: [{where: "DR = '0'", because: nothing}]
            """);
        Assert.Equal("ORD: ORD ID=ID, CNO=CNO, STAT, DR=DR, CR=CR", Shown(hop.Tables[0]));
    }

    // NAME is VARCHAR(40), LIM VARCHAR(12), FAX VARCHAR(1), NO a whole number that must be there.
    [Theory]
    [InlineData("NAME", "'2'", "NAME VARCHAR(40)")]
    [InlineData("NAME", "TRIM(FAX)", "NAME VARCHAR(40)")]
    [InlineData("NAME", "CASE WHEN FAX = 'x' THEN 'P' ELSE 'D' END", "NAME VARCHAR(40)")]
    [InlineData("NAME", "CAST(FAX AS VARCHAR(3))", "NAME VARCHAR(3)")] // said so
    [InlineData("NAME", "NO", "NAME INTEGER!")] // another column in its place
    [InlineData("FAX", "'none'", "FAX VARCHAR(4)")] // it could not hold that
    [InlineData("LIM", "CAST(LIM AS DECIMAL(14,2))", "LIM DECIMAL(14,2)")]
    [InlineData("LIM", "CAST(LIM AS DECIMAL(14,2)) * 2", "LIM DECIMAL(18,2)")] // an amount, no text any more
    [InlineData("NO", "NO * 2", "NO INTEGER")]
    [InlineData("NO", "7", "NO INTEGER!")]
    public void A_column_becomes_no_narrower_by_a_value_that_it_could_hold(string column, string value, string shown)
    {
        string left = value.Contains(column, StringComparison.Ordinal) ? "" : ", columns-left-out: {COLUMN: a new one}";
        TableShape made = Hop("""
            versions: ["1", "2"]
            hops:
              - hop: {from: "1", to: "2"}
                tables: [{from: CUST, into: {CUST: {COLUMN: SAID}}LEFT}]
            """.Replace("LEFT", left, StringComparison.Ordinal).Replace("COLUMN", column, StringComparison.Ordinal)
            .Replace("SAID", value.Contains("FAX", StringComparison.Ordinal) ? $"{{is: \"{value}\", changes: new}}" : $"\"{value}\"",
                StringComparison.Ordinal)).To.Table("CUST")!;
        Assert.Equal(shown, Shown(made with { Columns = [made.Columns[made.OrdinalOf(column)]], Key = [] })[5..].Split(") key")[0]);
    }

    [Fact]
    public void From_the_store_to_a_described_version_what_has_no_place_there_is_carried_beside()
    {
        Correspondence hop = Hop("""
            versions:
              - version: "1"
              - version: "2"
                tables:
                  customer: {columns: {NO: INTEGER NOT NULL, NAME: VARCHAR(40), LIM: VARCHAR(12)}, key: [NO]}
                  OWN: {columns: {ID: INTEGER}}
                  ORD: {columns: {ID: INTEGER, CNO: INTEGER, STAT: VARCHAR(1), DR: VARCHAR(12), CR: VARCHAR(12)}, key: [ID]}
            hops:
              - hop: {from: "1", to: "2"}
                tables:
                  - {from: CUST, into: {customer: {}}}
                  - {from: ORD, into: {OWN: {ID: ID}, ORD: {}}}
            """);
        Assert.Equal(["CUST: customer NO=NO, NAME=NAME, LIM=LIM, PHONE=PHONE, FAX=FAX",
            "ORD: OWN ID=ID; ORD ID=ID, CNO=CNO, STAT=STAT, DR=DR, CR=CR", "OWN: OWN_2 A=A, B=B"], hop.Tables.Select(Shown));
    }

    [Theory]
    [InlineData("tables: [{from: CUTS, into: {CUST: {}}}]", "there is no table CUTS in version 1")]
    [InlineData("tables-left-out: {LOG: no}", "there is no table LOG in version 1")]
    [InlineData("tables: [{from: ORD, into: {ORD: {x: STATUS}}}]", "there is no column STATUS in ORD")]
    [InlineData("tables: [{from: ORD}, {from: ORD}]", "the table ORD of version 1 is listed twice")]
    [InlineData("tables: [{from: CUST, into: {X: {}}}, {from: ORD, into: {X: {}}}]", "the new table X is fed by several old tables")]
    public void A_hop_that_does_not_fit_the_store_is_told_with_its_place(string said, string words)
    {
        TransferraException error = Assert.Throws<TransferraException>(() => Hop("""
            versions: ["1", "2"]
            hops: [{hop: {from: "1", to: "2"}, SAID}]
            """.Replace("SAID", said, StringComparison.Ordinal)));
        Assert.Contains(words, error.Message, StringComparison.Ordinal);
        Assert.Contains("kits/k/kit.yaml:5:", error.Message, StringComparison.Ordinal);
    }

    [Theory]
    [InlineData("CUST", "", "1")]
    [InlineData("CUST, ORD.STAT", "GONE", "1")]
    [InlineData("CUST.NONE", "", null)]
    [InlineData("NONE", "", null)]
    [InlineData("CUST", "ORD", null)]
    [InlineData("", "NONE", "1")]
    public void A_version_is_told_by_what_is_there_and_what_is_not(string has, string lacks, string? told)
    {
        const string head = "kit: k\ntitle: K\nversions: [{version: \"1\", told-by: [{has: [HAS], lacks: [LACKS]}]}]\n";
        using var folder = new TempFolder();
        folder.Write("kit.yaml", head.Replace("HAS", has, StringComparison.Ordinal).Replace("LACKS", lacks, StringComparison.Ordinal));
        var errors = new DescriptionErrors();
        Kit kit = KitLoader.Load(folder.Path, "kits/k", KnownKinds.All, errors)!;
        errors.ThrowIfAny();
        Assert.Equal(told, Transferra.Core.Surveys.Survey.SignsOf(kit, StoreWith()).SingleOrDefault()?.Version);
    }

    [Fact]
    public void What_is_masked_is_masked_also_where_the_store_could_not_be_looked_at()
    {
        Kit kit = Load("versions: [{version: \"1\", tables: {CUST: {masked-outside: [LIM]}}}]\n");
        KitVersion version = kit.Versions[0];
        var masking = new Transferra.Core.Support.Masking(version);
        Assert.True(masking.IsMasked("CUST", "LIM"));
        Assert.Equal("99", masking.Record("CUST", "17"));
        Assert.Equal("17", masking.Record("ORD", "17"));
        Assert.Equal("99: 9.99", masking.Example("CUST", "some rule", "17: 1.50"));
        var known = new Transferra.Core.Support.Masking(Over(kit, "1"));
        Assert.Equal("17", known.Record("CUST", "17"));
    }

    [Theory]
    [InlineData("JRNL", "JNRL", 1)] // two letters swapped
    [InlineData("JRNL", "JOURNAL", 3)]
    [InlineData("", "abc", 3)]
    [InlineData("same", "same", 0)]
    public void Slips_are_counted(string a, string b, int slips) => Assert.Equal(slips, Names.Slips(a, b));
}
