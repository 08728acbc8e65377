using DocumentFormat.OpenXml.Packaging;
using DocumentFormat.OpenXml.Spreadsheet;
using DocumentFormat.OpenXml.Validation;
using Transferra.Core.Checks;

namespace Transferra.Reports.Tests;

public sealed class FindingSheetTests
{
    [Fact]
    public void Findings_and_their_lists_are_sheets_of_a_valid_workbook_and_text_stays_text()
    {
        string folder = Directory.CreateTempSubdirectory("transferra-test-").FullName;
        try
        {
            File.WriteAllText(Path.Combine(folder, "01-orphan-JRNL.csv"),
                "record,value,finding\r\n007,=SUM(A1),x\r\n8,\"a, \"\"b\"\"\n\u0001c\",x\r\n");
            Finding[] findings =
            [
                new Finding("orphan", Grade.Fault, "JRNL", 2, "records that point nowhere", ["007"], "Enter it.",
                    false) { List = "01-orphan-JRNL.csv", Subject = "ACODE" },
                new Finding("damaged", Grade.Fault, "", 1, "it is torn", [], "Restore it.", false),
            ];
            using var book = new MemoryStream();
            FindingSheet.Write([new SheetCompany("QIH", new CheckResult("5", new Dictionary<string, long>(), findings), folder)], book);
            book.Position = 0;
            using var document = SpreadsheetDocument.Open(book, isEditable: false);
            Assert.Empty(new OpenXmlValidator().Validate(document, TestContext.Current.CancellationToken)
                .Select(error => $"{error.Path?.XPath}: {error.Description}"));
            Sheet[] sheets = [.. document.WorkbookPart!.Workbook!.Sheets!.Elements<Sheet>()];
            Assert.Equal(["Findings", "1 QIH orphan"], sheets.Select(sheet => sheet.Name!.Value));
            string[][] list = Cells(document, sheets[1]);
            Assert.Equal(["007", "=SUM(A1)", "x"], list[1]);
            Assert.Equal(["8", "a, \"b\"\n\uFFFDc", "x"], list[2]);
            string[][] rows = Cells(document, sheets[0]);
            Assert.Equal(["1", "QIH", "fault", "orphan", "JRNL", "ACODE", "2"], rows[1][..7]);
            Assert.Equal(3, rows.Length);
        }
        finally
        {
            Directory.Delete(folder, recursive: true);
        }
    }

    private static string[][] Cells(SpreadsheetDocument document, Sheet sheet) =>
        [.. ((WorksheetPart)document.WorkbookPart!.GetPartById(sheet.Id!.Value!)).Worksheet!.Descendants<Row>()
            .Select(row => row.Elements<Cell>().Select(cell => cell.InnerText).ToArray())];
}
