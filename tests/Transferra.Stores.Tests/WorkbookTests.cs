using System.Diagnostics;
using System.IO.Compression;
using Transferra.Core.Machine;
using Transferra.Core.Records;
using Transferra.Tests;

namespace Transferra.Stores.Tests;

/// <summary>Workbooks written by a library that shares nothing with our reader, and a few written by hand.</summary>
public sealed class WorkbookTests : IDisposable
{
    private readonly TempFolder _folder = new();
    private readonly StoreOpener _stores = new();

    public void Dispose() => _folder.Dispose();

    // Lines of Python with "book", a workbook of the library openpyxl, which test.sh installs.
    private IStore Open(string lines)
    {
        string script = _folder.Write("fill.py",
            $"import datetime, openpyxl\nbook = openpyxl.Workbook()\nbook.remove(book.active)\n{lines}\nbook.save('book.xlsx')\n");
        using Process python = Process.Start(new ProcessStartInfo("/usr/bin/python3", [script])
        {
            WorkingDirectory = _folder.Path,
            RedirectStandardError = true
        })!;
        string errors = python.StandardError.ReadToEnd();
        python.WaitForExit();
        Assert.True(python.ExitCode == 0, errors);
        return _stores.Open(new StoreAddress("workbook", _folder["book.xlsx"]));
    }

    [Fact]
    public void Sheets_are_tables_and_their_first_row_names_the_columns()
    {
        using IStore store = Open("""
            sheet = book.create_sheet('Journal 2024')
            sheet['A1'], sheet['B1'], sheet['D1'] = 'No', 'Posted on', ' Amount '
            sheet['A2'], sheet['B2'], sheet['D2'] = 1, datetime.date(2024, 2, 29), 12.5
            sheet['A5'] = 2 # rows between that hold nothing are none
            book.create_sheet('Accounts')['A1'] = 'Code'
            book.create_sheet('Empty')
            """);
        Assert.Equal(["Accounts", "Empty", "Journal 2024"], store.ReadShape().Select(table => table.Name));
        Assert.Equal(["No", "Posted on", "Amount"], store.ReadShape()[2].Columns.Select(column => column.Name));
        Assert.Equal((0, 0, 2), (store.CountRows("Accounts"), store.CountRows("Empty"), store.CountRows("Journal 2024")));
        Assert.Equal(["12.50", null], Cells.Of(store, "Journal 2024", "amount", FieldType.Decimal(14, 2), out RowFault[] faults));
        Assert.Equal(["2024-02-29", null], Cells.Of(store, "Journal 2024", "Posted on", FieldType.Date, out _));
        Assert.Empty(faults);
        Assert.Empty(store.CheckPhysically());
    }

    [Fact]
    public void Values_come_as_they_were_typed()
    {
        using IStore store = Open("""
            sheet = book.create_sheet('T')
            for row in ['V', 'text with \u00e9, \U0001F3BB and\nlines', 1 / 3, 1234567.89, True, datetime.datetime(1999, 12, 31, 23, 59,
              58), datetime.time(10, 20, 30), 0.0001, '  kept blanks  ', '007']:
                sheet.append([row])
            """);
        Assert.Equal(["text with \u00e9, \U0001F3BB and\nlines", "0.3333333333333333", "1234567.89", "true", "1999-12-31 23:59:58",
            "10:20:30", "0.0001",
            "  kept blanks  ", "007"], Cells.Of(store, "T", "V", FieldType.Text, out _));
    }

    [Fact]
    public void What_is_no_value_of_its_column_is_a_fault_with_its_row()
    {
        using IStore store = Open("""
            sheet = book.create_sheet('T')
            for row in ['V', 1 / 3, '12,5O', 12.5, '#DIV/0!']:
                sheet.append([row])
            """);
        Assert.Equal([null, null, "12.50", null], Cells.Of(store, "T", "V", FieldType.Decimal(14, 2), out RowFault[] faults));
        Assert.Equal([FaultCode.NeedsRounding, FaultCode.NotANumber, FaultCode.WrongKind], faults.Select(fault => fault.Code));
        Assert.Contains("row 3", faults[1].Reason, StringComparison.Ordinal);
        Assert.Contains("the cell shows an error", faults[2].Reason, StringComparison.Ordinal);
    }

    // Sheets as other writers make them: texts in place, no cell references, runs of text, days from 1904.
    [Fact]
    public void Other_writers_forms_are_read_too()
    {
        Write("hand.xlsx", date1904: true, """
            <row><c t="inlineStr"><is><r><t>No</t></r></is></c>
            <c t="inlineStr"><is><t>Day</t></is></c><c t="inlineStr"><is><t>Text</t></is></c></row>
            <row r="7"><c><v>1</v></c><c s="1"><v>1</v></c><c t="s"><v>0</v></c></row>
            <row r="8"><c r="C8" t="str"><v>plain</v></c></row>
            <row r="9"><c r="A9" t="b"><v>1</v></c><c r="B9" t="d"><v>2024-02-29T00:00:00</v></c></row>
            """);
        using IStore store = _stores.Open(new StoreAddress("workbook", _folder["hand.xlsx"]));
        Assert.Equal(["1904-01-02", null, "2024-02-29"], Cells.Of(store, "T", "Day", FieldType.Date, out RowFault[] faults));
        Assert.Equal(["two runs_x000A_", "plain", null], Cells.Of(store, "T", "Text", FieldType.Text, out _)
            .Select(text => text?.Replace("\n", "_x000A_", StringComparison.Ordinal)));
        Assert.Equal(["1", null, "true"], Cells.Of(store, "T", "No", FieldType.Text, out _));
        Assert.Empty(faults);
    }

    [Theory]
    [InlineData("<row r=\"1\"><c r=\"A1\" t=\"inlineStr\"><is><t>V</t></is></c></row><row r=\"2\"><c r=\"A2\" "
        + "t=\"s\"><v>99</v></c></row>", "no shared text")]
    [InlineData("<row r=\"1\"><c r=\"A1\" t=\"inlineStr\"><is><t>V</t></is></c></row><row r=\"2\"><c r=\"11\"><v>9</v></c></row>",
        "no cell")]
    [InlineData("<row r=\"1\"><c r=\"A1\" t=\"inlineStr\"><is><t>V</t></is></c></row><row r=\"2\"><c r=\"ZZZZ1\"><v>9</v></c></row>",
        "no cell")]
    [InlineData("<row r=\"1\"><c", "damaged")]
    public void A_damaged_sheet_is_told_with_its_row(string rows, string says)
    {
        Write("bad.xlsx", date1904: false, rows);
        using IStore store = _stores.Open(new StoreAddress("workbook", _folder["bad.xlsx"]));
        string complaint = Assert.Single(store.CheckPhysically());
        Assert.Contains("the sheet T of", complaint, StringComparison.Ordinal);
        Assert.Contains(says, complaint, StringComparison.Ordinal);
    }

    [Fact]
    public void What_is_no_workbook_is_told_in_words()
    {
        Assert.Contains("is not a readable workbook", Refused(_folder.Write("text.xlsx", "not a package")).Message,
            StringComparison.Ordinal);
        using (ZipArchive package = ZipFile.Open(_folder["empty.xlsx"], ZipArchiveMode.Create)) package.CreateEntry("readme.txt");
        Assert.Contains("is missing", Refused(_folder["empty.xlsx"]).Message, StringComparison.Ordinal);
        Assert.Contains("is not there", Refused(_folder["none.xlsx"]).Message, StringComparison.Ordinal);
        Assert.Contains("no new store is written", Assert.Throws<TransferraException>(() =>
            _stores.Create(new StoreAddress("workbook", _folder["new.xlsx"]))).Message, StringComparison.Ordinal);
    }

    [Fact]
    public void Any_damaged_byte_is_told_or_harmless()
    {
        using (Open("book.create_sheet('T')['A1'] = 'V'")) { }
        byte[] sound = File.ReadAllBytes(_folder["book.xlsx"]);
        for (int at = 0; at < sound.Length; at += 41)
        {
            byte[] bytes = [.. sound];
            bytes[at] ^= 0x55;
            File.WriteAllBytes(_folder["damaged.xlsx"], bytes);
            try
            {
                using IStore store = _stores.Open(new StoreAddress("workbook", _folder["damaged.xlsx"]));
                _ = store.CheckPhysically();
                foreach (TableShape table in store.ReadShape()) Assert.InRange(store.CountRows(table.Name), 0, 1);
            }
            catch (TransferraException error)
            {
                Assert.NotEmpty(error.Next);
            }
        }
    }

    private TransferraException Refused(string path) => Assert.Throws<TransferraException>(() =>
        _stores.Open(new StoreAddress("workbook", path)).Dispose());

    private void Write(string name, bool date1904, string rows)
    {
        const string main = "http://schemas.openxmlformats.org/spreadsheetml/2006/main",
            relations = "http://schemas.openxmlformats.org/officeDocument/2006/relationships";
        using ZipArchive package = ZipFile.Open(_folder[name], ZipArchiveMode.Create);
        Part("xl/workbook.xml", $"<workbook xmlns=\"{main}\" xmlns:r=\"{relations}\"><workbookPr "
            + $"date1904=\"{(date1904 ? 1 : 0)}\"/><sheets><sheet name=\"T\" sheetId=\"1\" r:id=\"r1\"/></sheets></workbook>");
        Part("xl/_rels/workbook.xml.rels",
            "<Relationships xmlns=\"http://schemas.openxmlformats.org/package/2006/relationships\"><Relationship Id=\"r1\" Type=\"t\" "
                + "Target=\"worksheets/s.xml\"/></Relationships>");
        Part("xl/worksheets/s.xml", $"<worksheet xmlns=\"{main}\"><sheetData>{rows}</sheetData></worksheet>");
        Part("xl/sharedStrings.xml", $"<sst xmlns=\"{main}\"><si><r><t>two </t></r><r><t>runs_x000A_</t></r><rPh sb=\"0\" "
            + "eb=\"1\"><t>spoken</t></rPh></si></sst>");
        Part("xl/styles.xml", $"<styleSheet xmlns=\"{main}\"><numFmts><numFmt numFmtId=\"164\" "
            + "formatCode=\"dd\\.mm\\.yyyy\"/></numFmts><cellStyleXfs><xf numFmtId=\"14\"/></cellStyleXfs><cellXfs><xf "
            + "numFmtId=\"0\"/><xf numFmtId=\"164\"/></cellXfs></styleSheet>");

        void Part(string part, string text)
        {
            using var writer = new StreamWriter(package.CreateEntry(part).Open());
            writer.Write(text);
        }
    }
}
