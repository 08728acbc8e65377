using Transferra.Core.Kits;
using Transferra.Tests;

namespace Transferra.Core.Tests;

public class KitLoaderTests
{
    private static IReadOnlyList<DescriptionError> ErrorsOf(string? hop = null, string? old = null, string? kit = null)
    {
        var errors = new DescriptionErrors();
        SampleKit.Load(errors, hop, old, kit);
        return Assert.Throws<DescriptionException>(errors.ThrowIfAny).Errors;
    }

    [Fact]
    public void The_sample_loads_without_a_mistake()
    {
        Kit kit = SampleKit.Load();
        Assert.Equal(["1", "2"], kit.Versions.Select(version => version.Name));
        Assert.Equal(3, kit.Hops[0].Correspondence.Tables.Count);
        Assert.Equal("only of use to the program", kit.Hops[0].Correspondence.TablesLeftOut["OLDLOG"]);
    }

    [Fact]
    public void Indexes_numbering_and_defaults_are_read()
    {
        string old = SampleKit.Old.Replace("    key: [GNO]\n",
            "    key: [GNO]\n    indexes: [{columns: [TITLE, GNO], unique: true}, {columns: TITLE}]\n    numbered: gno\n    defaults: "
                + "{TITLE: \"'it''s'\"}\n",
            StringComparison.Ordinal);
        var errors = new DescriptionErrors();
        Transferra.Core.Records.TableShape table = SampleKit.Load(errors, old: old)!.Versions[0].Tables.Single(table =>
            table.Name == "GRP");
        errors.ThrowIfAny();
        Assert.Equal(["TITLE,GNO True", "TITLE False"],
            table.Indexes.Select(index => $"{string.Join(',', index.Columns)} {index.IsUnique}"));
        Assert.Equal(("gno", "'it''s'"), (table.NumberedColumn, table.Columns[table.OrdinalOf("TITLE")].Default));
    }

    // One change to the hop, the text that the mistake must be told at, and its words.
    [Theory]
    [InlineData("part_no: PNO\n        name", "part_no: PNOX\n        name", "PNOX", "there is no column PNOX in PART")]
    [InlineData("CAST(PRICE AS DECIMAL(10,2))", "CAST(PRICE AS MONEY)", "MONEY", "\"MONEY\" is not a type")]
    [InlineData("CAST(PRICE AS DECIMAL(10,2))", "PRICE", "PRICE", "write CAST(... AS DECIMAL(10,2))")]
    [InlineData("kinds.code", "kind.code", "kind.code", "there is no lookup kind")]
    [InlineData("columns-left-out: {SPARE: never used}", "columns-left-out: {SPARE: ''}", "'}", "left out for a reason")]
    [InlineData("columns-left-out: {SPARE: never used}", "columns-left-out: {SPARE: x, NAME: y}", "NAME: y", "is used and left out")]
    [InlineData("    columns-left-out: {SPARE: never used}\n", "", "PART\n", "the column PART.SPARE is neither used nor left out")]
    [InlineData("tables-left-out: {OLDLOG: only of use to the program}\n", "", "tables:",
        "the table OLDLOG of version 1 is neither carried nor left out")]
    [InlineData("title: TITLE}}", "title: TITLE, extra: TITLE}}", "extra: TITLE", "there is no column extra in grp")]
    [InlineData("{grp: {group_no: GNO, title: TITLE}}", "{grp: {group_no: GNO, title: UPPER(TITLE)}}", "UPPER", "this can alter the text")]
    [InlineData("into: {grp: {group_no: GNO, title: TITLE}}", "into: {}", "{}", "the records of GRP go nowhere")]
    [InlineData("exact-copies: {keep: first", "exact-copies: {keep: last", "last", "\"keep\" can be: first")]
    [InlineData("rows-left-out:", "rows-left-aut:", "rows-left-aut", "\"rows-left-aut\" is not known here")]
    [InlineData("by: [REF]", "by: [TXT]", "{by: [TXT]", "names the first columns of the key of MEMO")]
    [InlineData("value: \":scheme\"", "value: \":schema\"", ":schema", "there is no setting :schema")]
    public void One_mistake_is_told_with_file_line_column(string good, string bad, string at, string what)
    {
        string hop = SampleKit.Hop.Replace(good, bad, StringComparison.Ordinal);
        Assert.NotEqual(SampleKit.Hop, hop);
        DescriptionError error = Assert.Single(ErrorsOf(hop));
        Assert.Contains(what, error.What, StringComparison.Ordinal);
        Assert.Equal(Place("kits/sample/hops/1-to-2.yaml", hop, at), (error.File, error.Line, error.Column));
    }

    [Fact]
    public void One_mistake_in_what_a_new_table_gets_is_told()
    {
        string hop = SampleKit.Hop.Replace("{group_no: GNO, title: TITLE}}", "{group_no: GNO}}", StringComparison.Ordinal)
            .Replace("    into: {grp:", "    columns-left-out: {TITLE: no}\n    into: {grp:", StringComparison.Ordinal);
        Assert.Contains("the new column grp.title gets no value", Assert.Single(ErrorsOf(hop)).What, StringComparison.Ordinal);
    }

    private static (string File, int Line, int Column) Place(string file, string text, string at)
    {
        int offset = text.IndexOf(at, StringComparison.Ordinal);
        string before = text[..offset];
        return (file, before.Count(c => c == '\n') + 1, offset - (before.LastIndexOf('\n') + 1) + 1);
    }

    // One change to the old version, the text that the mistake must be told at, and its words.
    [Theory]
    [InlineData("{header: user_version, is: \"1\"}", "{header: user_version, sql: x, is: \"1\"}", "{header",
        "a sign has one of \"sql\", \"header\", \"table\"")]
    [InlineData("{header: user_version, is: \"1\"}", "{sql: COMMIT; DROP TABLE T, is: \"1\"}", "COMMIT",
        "a question to the engine begins with SELECT")]
    [InlineData("sql: {memory: \"old prices\"}}", "sql: {mariadb: SELECT 1; DELETE FROM PART}}", "{name: Prices",
        "is one statement, and this may be several")]
    [InlineData("{header: user_version, is: \"1\"}", "{table: GRP, is: \"1\"}", "{table", "has \"table\", \"column\" and \"where\"")]
    [InlineData("{header: user_version, is: \"1\"}", "{table: GRPS, column: TITLE, where: GNO = 1, is: \"1\"}", "GRPS",
        "there is no table GRPS")]
    [InlineData("{header: user_version, is: \"1\"}", "{table: GRP, column: NAME, where: GNO = 1, is: \"1\"}", "NAME, where",
        "the table GRP has no column NAME")]
    [InlineData("{header: user_version, is: \"1\"}", "{table: GRP, column: TITLE, where: GNO = 'x', is: \"1\"}", "= 'x'",
        "INTEGER and VARCHAR(1) cannot be compared")]
    [InlineData("sql: {memory: \"old prices\"}}", "sql: {memory: \"old prices\"}, table: PART, sum: GROUPNO}", "GROUPNO}",
        "a total with 2 decimals adds up DECIMAL(p,2), this is INTEGER")]
    [InlineData("sql: {memory: \"old prices\"}}", "table: PART, by: [NONE]}", "NONE", "there is no column NONE in PART")]
    [InlineData("decimals: 2, sql: {memory: \"old prices\"}}", "decimals: 2}", "{name: Prices", "has \"sql\" for engines that answer it")]
    [InlineData("    key: [GNO]\n", "    key: [GNO]\n    private: [SECRET]\n", "SECRET", "the table GRP has no column SECRET")]
    [InlineData("    key: [GNO]\n", "    key: [GNO]\n    numbered: TITLE\n", "TITLE\n",
        "the table GRP has no column TITLE of whole numbers")]
    [InlineData("    key: [GNO]\n", "    key: [GNO]\n    indexes: [{columns: [NONE]}]\n", "NONE", "the table GRP has no column NONE")]
    [InlineData("    key: [GNO]\n", "    key: [GNO]\n    indexes: [{columns: [TITLE], unique: perhaps}]\n", "perhaps",
        "\"perhaps\" should be yes or no")]
    [InlineData("    key: [GNO]\n", "    key: [GNO]\n    declared-as: {NONE: TEXT}\n", "NONE", "the table GRP has no column NONE")]
    [InlineData("    key: [GNO]\n", "    key: [GNO]\n    declared-as: {TITLE: \"TEXT); DROP TABLE GRP\"}\n", "TEXT); DROP",
        "is not how a column is declared")]
    [InlineData("    key: [GNO]\n", "    key: [GNO]\n    defaults: {NONE: \"1\"}\n", "NONE", "the table GRP has no column NONE")]
    [InlineData("    key: [GNO]\n", "    key: [GNO]\n    defaults: {TITLE: now()}\n", "now()", "is not a default; a default is a number")]
    [InlineData("    key: [GNO]\n", "    key: [GNO]\n    defaults: {TITLE: \"'it's'\"}\n", "'it's'",
        "is not a default; a default is a number")]
    public void One_mistake_in_a_version_is_told_with_its_place(string good, string bad, string at, string what)
    {
        string old = SampleKit.Old.Replace(good, bad, StringComparison.Ordinal);
        Assert.NotEqual(SampleKit.Old, old);
        DescriptionError error = ErrorsOf(old: old)[0];
        Assert.Contains(what, error.What, StringComparison.Ordinal);
        Assert.Equal(Place("kits/sample/versions/1.yaml", old, at), (error.File, error.Line, error.Column));
    }

    [Fact]
    public void A_total_is_not_grouped_by_a_private_column()
    {
        string old = SampleKit.Old.Replace("    key: [PNO]\n", "    key: [PNO]\n    private: [SPARE]\n", StringComparison.Ordinal)
            .Replace("sql: {memory: \"old prices\"}}", "sql: {memory: \"old prices\"}, table: PART, by: [SPARE]}",
                StringComparison.Ordinal);
        Assert.Contains("SPARE is private", Assert.Single(ErrorsOf(old: old)).What, StringComparison.Ordinal);
    }

    [Fact]
    public void What_is_private_in_the_old_version_has_to_be_private_in_the_new_one()
    {
        string old = SampleKit.Old.Replace("    key: [GNO]\n", "    key: [GNO]\n    private: [TITLE]\n", StringComparison.Ordinal);
        DescriptionError error = Assert.Single(ErrorsOf(old: old));
        Assert.Equal("kits/sample/hops/1-to-2.yaml", error.File);
        Assert.Contains("from the private column TITLE; list grp.title under private", error.What, StringComparison.Ordinal);
    }

    [Fact]
    public void All_mistakes_of_all_files_are_told_in_one_go()
    {
        string hop = SampleKit.Hop.Replace("part_no: PNO\n        name", "part_no: PNOX\n        name", StringComparison.Ordinal)
            .Replace("kinds.code", "kind.code", StringComparison.Ordinal);
        string old = SampleKit.Old.Replace("to: GRP,", "to: GRPX,", StringComparison.Ordinal);
        string kit = SampleKit.Kit + "\ncolour: blue\n";
        Assert.Equal([Place("kits/sample/hops/1-to-2.yaml", hop, "PNOX"), Place("kits/sample/hops/1-to-2.yaml", hop, "kind.code"),
            Place("kits/sample/kit.yaml", kit, "colour"), Place("kits/sample/versions/1.yaml", old, "tables:")],
            ErrorsOf(hop, old, kit).Select(error => (error.File, error.Line, error.Column)));
    }

    [Fact]
    public void A_file_that_is_no_yaml_is_told_with_its_place()
    {
        DescriptionError error = ErrorsOf(kit: "kit: [unclosed\ntitle: x\n")[0];
        Assert.Equal("kits/sample/kit.yaml", error.File);
        Assert.Contains("not YAML", error.What, StringComparison.Ordinal);
    }

    [Fact]
    public void The_shortest_way_is_found_and_a_missing_one_is_none()
    {
        Kit kit = SampleKit.Load();
        Assert.Single(Way.Between(kit, "1", "2")!.Hops);
        Assert.Empty(Way.Between(kit, "2", "2")!.Hops);
        Assert.Null(Way.Between(kit, "2", "1"));
    }

    private const string Short = """
        kit: short
        title: Short
        versions: ["6", "7"]
        told-by: [{header: user_version}]
        hops: [{hop: {from: "6", to: "7"}, means: {by-hand: {steps: [Convert it.]}}}]

        """;

    private static (Kit? Kit, IReadOnlyList<DescriptionError> Errors) LoadShort(string good = "", string bad = "")
    {
        using var folder = new TempFolder();
        folder.Write("kit/kit.yaml", good.Length == 0 ? Short : Short.Replace(good, bad, StringComparison.Ordinal));
        var errors = new DescriptionErrors();
        return (KitLoader.Load(folder["kit"], "kit", Core.Means.KnownKinds.All, errors), errors.Since(0));
    }

    [Fact]
    public void A_kit_in_one_file_tells_each_version_by_what_the_store_says()
    {
        (Kit? kit, IReadOnlyList<DescriptionError> errors) = LoadShort();
        Assert.Empty(errors);
        Assert.Equal(["6", "7"], kit!.Versions.Select(version => Assert.Single(version.Evidence).Value));
        Assert.Equal("kit/kit.yaml, hop 6 to 7", Assert.Single(kit.Hops).File);
    }

    [Theory]
    [InlineData("told-by: [{header: user_version}]\n", "", "kit/versions/6.yaml:1:1", "the file is not there")]
    [InlineData("{header: user_version}", "{header: user_version, is: \"6\"}", "kit/kit.yaml:4:34", "\"is\" is not known here")]
    [InlineData("{header: user_version}", "{}", "kit/kit.yaml:4:11", "told by one of")]
    [InlineData("to: \"7\"", "to: \"8\"", "kit/kit.yaml:5:31", "the kit has no version 8")]
    public void A_mistake_in_a_kit_of_one_file_is_told_with_its_place(string good, string bad, string at, string what)
    {
        DescriptionError error = LoadShort(good, bad).Errors[0];
        Assert.StartsWith(at, error.ToString(), StringComparison.Ordinal);
        Assert.Contains(what, error.What, StringComparison.Ordinal);
    }
}
