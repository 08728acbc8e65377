// PlantedTests.cs: for each kind of finding a record that has it, in a company that is sound but for that; and the sound company itself.
using Transferra.Core.Checks;
using Transferra.Core.Kits;
using Transferra.Core.Records;
using Transferra.Tests;

namespace Transferra.Core.Tests;

public class PlantedTests
{
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
        { "missing", FindingKinds.Blank, 1, " / 0.00 / 0.00 / " },
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
        using var company = new PlantedCompany();
        company.Plant(what);
        Finding finding = Assert.Single(company.Check());
        Assert.Equal((kind, count), (finding.Kind, finding.Count));
        Assert.Equal(example, finding.Examples[0]);
        Assert.NotNull(FindingKinds.Help(finding.Kind));
        string[] list = File.ReadAllLines(Path.Combine(company.Lists, finding.List));
        Assert.Equal(kind is FindingKinds.SeriesGap or FindingKinds.SeriesRepeat ? 1 : count, list.Length - 1);
    }

    [Fact]
    public void A_sound_company_gives_no_finding()
    {
        using var company = new PlantedCompany();
        Assert.Empty(company.Check());
        Assert.Empty(Directory.EnumerateFiles(company.Lists));
    }

    [Fact]
    public void A_file_that_cannot_be_read_is_a_fault()
    {
        using var company = new PlantedCompany();
        File.CreateSymbolicLink(company.Folder["scans/lost.png"], company.Folder["scans/nowhere.png"]);
        Finding fault = Assert.Single(company.Check(), finding => finding.Grade == Grade.Fault);
        Assert.Equal((FindingKinds.DocumentUnreadable, 1L), (fault.Kind, fault.Count));
        Assert.StartsWith("lost.png: ", fault.Examples[0], StringComparison.Ordinal);
    }

    [Fact]
    public void Private_values_reach_neither_examples_nor_lists()
    {
        using var company = new PlantedCompany();
        company["SUPPLIER"].Add([3L, "Vivaldi\u0002", null, (Int128)0]);
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

    [Fact]
    public void A_whole_number_is_the_same_whatever_column_it_stands_in()
    {
        var whole = new LongVector(FieldType.Integer);
        var amount = new WideVector(FieldType.Decimal(12, 2));
        foreach (long number in (long[])[0, 5, -5, long.MaxValue / 100])
        {
            whole.Append(number);
            amount.Append((Int128)number * 100);
            Assert.Equal(Digest.Of(whole, whole.Count - 1), Digest.Of(amount, amount.Count - 1));
        }
        amount.Append(501);
        whole.AppendNull();
        Assert.Equal(6, Enumerable.Range(0, 5).Select(row => Digest.Of(amount, row)).Append(Digest.Of(whole, 4)).Distinct().Count());
    }

    [Fact]
    public void A_rule_that_cannot_be_read_says_where()
    {
        string wrong = PlantedCompany.Description.Replace("by: [SUPPLIER], sum: GROSS", "by: [REFNO], sum: GROSS", StringComparison.Ordinal)
            .Replace("holds: GROSS = NET + TAX", "holds: NET + TAX", StringComparison.Ordinal)
            .Replace("parent: PARENT", "parent: NOBODY", StringComparison.Ordinal).Replace("to: SUPPLIER, on: [SNO]",
                "to: SUPPLIER, on: [NAME]", StringComparison.Ordinal) + """

            mends:
              - {drop-copies: NOWHERE, because: x}
              - {trim: INVOICE, columns: [NET], because: x}
              - {recompute: gross, column: GROSS, because: x}
            """;
        IReadOnlyList<DescriptionError> errors = Assert.Throws<DescriptionException>(() => PlantedCompany.Load(wrong)).Errors;
        string[] expected = ["INVOICE.SUPPLIER and SUPPLIER.NAME are of different types", "no column NOBODY", "a condition is needed",
            "REFNO is VARCHAR(10)",
            "no table NOWHERE", "no text column NET", "no rule \"gross\" with \"equals\""];
        Assert.All(expected, text => Assert.Contains(errors, error => error.What.Contains(text, StringComparison.Ordinal)));
        Assert.All(errors, error => Assert.True(error.Line > 1, error.ToString()));
    }

    [Fact]
    public void The_documentation_explains_each_kind_as_the_program_does()
    {
        string folder = AppContext.BaseDirectory;
        while (!File.Exists(Path.Combine(folder, "Transferra.slnx"))) folder = Path.GetDirectoryName(folder)!;
        string written = File.ReadAllText(Path.Combine(folder, "docs", "findings.md"));
        foreach (FindingHelp help in FindingKinds.All)
            Assert.Contains($"### `{help.Kind}`\n\n{help.Meaning}\n\n*Usually from:* {help.Cause}\n\n*What to do:* {help.Remedy}\n",
                written, StringComparison.Ordinal);
        Assert.Equal(FindingKinds.All.Count, written.Split("\n### ").Length - 1);
        Assert.Equal(typeof(FindingKinds).GetFields().Count(field => field.IsLiteral), FindingKinds.All.Count);
    }
}
