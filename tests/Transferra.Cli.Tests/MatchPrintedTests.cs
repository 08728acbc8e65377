using Transferra.Tests;

namespace Transferra.Cli.Tests;

/// <summary>Folders of reports against each other, in every form that is read, each made by somebody else's program.</summary>
public sealed class MatchPrintedTests : IDisposable
{
    private readonly TempFolder _folder = new();

    public void Dispose() => _folder.Dispose();

    private const string Debtors = "Aged debtors\nBrook Lane School   1,204.50\n"
        + "North Choir           310.00-\nTotal                 894.50\n";

    private Called Match(params string[] more) => BuiltProgram.RunIn(_folder.Path, ["match", "--printed-before", "old", "--printed-after",
        "new",
        .. more]);

    private void Both(string name, string text)
    {
        _folder.Write("old/" + name, text);
        _folder.Write("new/" + name, text);
    }

    [Fact]
    public void The_same_in_any_form_is_the_same_and_one_figure_that_is_not_is_named()
    {
        Both("debtors.txt", Debtors);
        Both("sub folder/stock.csv", "Item,Qty\n\"Cello, 4/4\",3\n");
        const string table = "<html><head><title>x</title></head><body>"
            + "<h1>Hire</h1><table><tr><td>Cello</td><td>12.00</td></tr></table></body></html>";
        _folder.Write("old/hire.html", table);
        _folder.Write("new/hire.html", table.Replace("<table>", "<p>Printed on 2026-11-29 10:11</p><table border='1'>\n ",
            StringComparison.Ordinal));
        Book("old/trial balance.xlsx", "12.5");
        Book("new/trial balance.xlsx", "12.5");
        Pdf("old/wages.pdf", "Wages\nA. Clerk 1,800.00");
        Pdf("new/wages.pdf", "Wages\nA. Clerk 1,800.00");
        Match("--aside", "^Printed on.*$").Expect(0).Says("The same: 5 reports", "every line compared");
        _folder.Write("new/debtors.txt", Debtors.Replace("310.00-", "310.00", StringComparison.Ordinal));
        Book("new/trial balance.xlsx", "12.6");
        Pdf("new/wages.pdf", "Wages\nA. Clerk 1,801.00");
        Match("--aside", "^Printed on.*$").Expect(1).Says("debtors.txt: 1 line is not the same", "310.00- became 310.00",
            "12.5 became 12.6",
            "1,800.00 became 1,801.00", "NOT the same: 3 of 5 reports");
    }

    [Fact]
    public void What_only_one_side_has_or_cannot_be_read_is_never_the_same()
    {
        Both("a.txt", Debtors);
        _folder.Write("old/gone.txt", "1\n");
        File.WriteAllBytes(_folder.Write("old/b.dat", ""), [1, 0, 2]);
        File.WriteAllBytes(_folder.Write("new/b.dat", ""), [1, 0, 2]);
        _folder.Write("old/c.pdf", "no pdf");
        _folder.Write("new/c.pdf", "no pdf");
        Match().Expect(1).Says("Only before: gone.txt", "Not read:", "b.dat is not a text", "c.pdf cannot be read",
            "NOT the same: 3 of 4 reports");
        Match("--aside", "(").Expect(2).Says("is not a regular expression");
        BuiltProgram.RunIn(_folder.Path, "match", "--printed-before", "old").Expect(2).Says("belong together");
        BuiltProgram.RunIn(_folder.Path, "match", "--printed-before", "old", "--printed-after",
            "nowhere").Expect(2).Says("there is no folder");
    }

    private void Book(string name, string number)
    {
        Directory.CreateDirectory(Path.GetDirectoryName(_folder[name])!);
        TempFolder.Shell(_folder.Path, "/usr/bin/python3 -c 'import openpyxl; b = openpyxl.Workbook(); s = b.active; s.append([\"Cash\", "
            + $"{number}]); b.save(\"{name}\")'");
    }

    // The smallest page that pdftotext reads, with a line for each of the text's.
    private void Pdf(string name, string text)
    {
        string lines = string.Concat(text.Split('\n').Select(line => $"({line}) Tj 0 -14 Td "));
        string content = $"BT /F1 12 Tf 50 700 Td {lines}ET";
        _folder.Write(name, "%PDF-1.4\n1 0 obj<</Type/Catalog/Pages 2 0 R>>endobj\n2 0 obj<</Type/Pages/Kids[3 0 R]/Count 1>>endobj\n"
            + "3 0 obj<</Type/Page/Parent 2 0 R/MediaBox[0 0 595 842]/Contents 4 0 R/Resources<</Font<</F1 5 0 R>>>>>>endobj\n"
            + FormattableString.Invariant($"4 0 obj<</Length {content.Length}>>stream\n{content}\nendstream endobj\n")
            + "5 0 obj<</Type/Font/Subtype/Type1/BaseFont/Helvetica>>endobj\ntrailer<</Root 1 0 R>>\n%%EOF\n");
    }
}
