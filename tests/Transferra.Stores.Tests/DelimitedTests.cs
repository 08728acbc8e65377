using System.Text;
using Transferra.Core.Machine;
using Transferra.Core.Records;
using Transferra.Tests;

namespace Transferra.Stores.Tests;

public sealed class DelimitedTests : IDisposable
{
    private readonly TempFolder _folder = new();
    private readonly StoreOpener _stores = new();

    static DelimitedTests() => Encoding.RegisterProvider(CodePagesEncodingProvider.Instance);

    public void Dispose() => _folder.Dispose();

    private StoreAddress Here(params (string Key, string Value)[] form) =>
        new("delimited", _folder["text"], form.Length == 0 ? null : form.ToDictionary(entry => entry.Key, entry => entry.Value));

    private void File(string name, string text, Encoding? encoding = null)
    {
        Directory.CreateDirectory(_folder["text"]);
        System.IO.File.WriteAllText(Path.Combine(_folder["text"], name), text, encoding ?? new UTF8Encoding(false));
    }

    private (string[] Rows, string[] Faults) Read(StoreAddress address, string table, params ColumnShape[] columns)
    {
        using IStore store = _stores.Open(address);
        var batch = new RecordBatch(columns);
        using IRecordReader reader = store.Read(new TableShape(table, columns, [], []), []);
        Assert.False(reader.Fill(batch));
        Assert.Equal(store.CountRows(table), batch.RowCount);
        return ([.. Enumerable.Range(0, batch.RowCount)
            .Select(row => string.Join('|', batch.Vectors.Select(vector => vector.IsNull(row) ? "-" : $"<{vector.Show(row)}>")))],
            [.. batch.Faults.Select(fault => $"{fault.Row} {fault.Column} {fault.Code} {fault.Value}: {fault.Reason}")]);
    }

    private static readonly ColumnShape[] Two = [new("a", FieldType.Text), new("b", FieldType.Text)];

    [Theory]
    [InlineData("a,b\r\n1,2\r\n", "<1>|<2>")]
    [InlineData("a,b\n1,2", "<1>|<2>")] // the last line may end with the file
    [InlineData("b,a\n1,2\n", "<2>|<1>")] // columns are found by name
    [InlineData("A,B\n1,2\n", "<1>|<2>")]
    [InlineData("a,b\n\"x,y\",\"say \"\"hi\"\"\"\n", "<x,y>|<say \"hi\">")]
    [InlineData("a,b\n\"two\nlines\",2\n", "<two\nlines>|<2>")]
    [InlineData("a,b\n,\"\"\n", "-|<>")] // nothing is not a value; quoted nothing is an empty text
    [InlineData("a,b\n\n\n1,2\n\n", "<1>|<2>")] // empty lines are none
    [InlineData("a,b\r1,2\r", "<1>|<2>")] // an old Macintosh
    [InlineData("a,b\n 1 ,2\n", "< 1 >|<2>")]
    public void Records_are_split_as_RFC_4180_says(string text, string row)
    {
        File("t.csv", text);
        (string[] rows, string[] faults) = Read(Here(("header", "yes")), "t", Two);
        Assert.Equal([row], rows);
        Assert.Empty(faults);
    }

    [Fact]
    public void What_is_wrong_with_a_line_is_told_with_its_number_and_the_others_are_read()
    {
        File("t.csv", "a,b\n1,2\n3\n\"two\nlines\",4\n5,6,7\n8,x\"y\n\"9\"z,0\n\"open,11\n12,13\n");
        (string[] rows, string[] faults) = Read(Here(("header", "yes")), "t", Two);
        Assert.Equal(["<1>|<2>", "-|-", "<two\nlines>|<4>", "-|-", "-|-", "-|-", "-|-", "<12>|<13>"], rows);
        Assert.Equal(
        [
            "1  WrongKind 3: line 3 of t.csv: there are 1 fields, and the first line names 2",
                "3  WrongKind 5: line 6 of t.csv: there are 3 fields, and the first line names 2",
            "4  WrongKind 8: line 7 of t.csv: there is a quote inside a field that does not begin with one",
                "5  WrongKind 9z: line 8 of t.csv: there is text after a closing quote",
            "6  WrongKind \"open,11: line 9 of t.csv: a quote is opened in this line and never closed",
        ], faults);
        using IStore store = _stores.Open(Here(("header", "yes")));
        Assert.Equal(5, store.CheckPhysically().Count);
    }

    [Fact]
    public void Values_are_read_as_the_form_says()
    {
        File("t.txt", "1;-1234,50;31.12.49;ja;x\n2;1.234,50;31.02.49;yes;(none)\n");
        ColumnShape[] columns = [new("n", FieldType.Integer), new("amount", FieldType.Decimal(10, 2)), new("day", FieldType.Date),
            new("yes", FieldType.Boolean), new("t", FieldType.Text)];
        (string[] rows, string[] faults) = Read(Here(("separator", ";"), ("decimal-mark", ","), ("dates", "DD.MM.RR"), ("header", "no"),
            ("null", "(none)")), "t", columns);
        Assert.Equal(["<1>|<-1234.50>|<2049-12-31>|-|<x>", "<2>|-|-|<true>|-"], rows);
        Assert.Equal(["0 yes NotABoolean ja: this is not a BOOLEAN (line 1)",
            "1 amount NotANumber 1.234,50: this is not a DECIMAL(10,2) (line 2)",
            "1 day NotADate 31.02.49: this is not a date of the form DD.MM.RR (line 2)"], faults);
    }

    [Theory]
    [InlineData("utf-8", 65001, false)]
    [InlineData("utf-8", 65001, true)]
    [InlineData("utf-16", 1200, true)]
    [InlineData("utf-8", 1201, true)] // the mark tells better than office.yaml
    [InlineData("windows-1252", 1252, false)]
    [InlineData("ibm850", 850, false)]
    public void Texts_are_decoded(string said, int page, bool mark)
    {
        Encoding encoding = page == 65001 ? new UTF8Encoding(mark) : Encoding.GetEncoding(page);
        File("t.csv", "a,b\nGrün,éß\n", encoding);
        Assert.Equal(["<Grün>|<éß>"], Read(Here(("encoding", said)), "t", Two).Rows);
    }

    [Fact]
    public void Bytes_that_are_no_text_are_faults()
    {
        Directory.CreateDirectory(_folder["text"]);
        System.IO.File.WriteAllBytes(Path.Combine(_folder["text"], "t.csv"), [.. "a,b\nok,\xE9\n"u8.ToArray()[..^3], 0xE9, (byte)'\n']);
        (string[] rows, string[] faults) = Read(Here(("encoding", "utf-8")), "t", Two);
        Assert.Equal(["<ok>|-"], rows);
        Assert.Equal("0 b NotText 0xE9: the bytes are not text in utf-8 (line 2)", Assert.Single(faults));
    }

    [Theory]
    [InlineData("id;name;price;day\n1;Anna;12,50;31.12.2024\n2;\"B;C\";1,00;01.02.2025\n",
        "separator ;, utf-8, with header, decimal mark ,, dates DD.MM.YYYY")]
    [InlineData("id,name,day\n1,a,12/31/24\n2,b,01/15/24\n", "separator ,, utf-8, with header, decimal mark ., dates MM/DD/RR")]
    [InlineData("1\ta\t2.50\n2\tb\t3.50\n", "separator tab, utf-8, without header, decimal mark ., dates YYYY-MM-DD")]
    public void The_form_is_guessed_and_said(string text, string form)
    {
        File("t.csv", text);
        using IStore store = _stores.Open(Here());
        Assert.Equal(form, store.Identity.HeaderFields[StoreIdentity.Guess]);
        using IStore said = _stores.Open(Here(("separator", ";")));
        Assert.False(said.Identity.HeaderFields.ContainsKey(StoreIdentity.Guess));
    }

    [Theory]
    [InlineData("separator", "::")]
    [InlineData("encoding", "ebcdic")]
    [InlineData("dates", "YY-MM-DD")]
    [InlineData("header", "perhaps")]
    [InlineData("quote", ",")]
    public void A_form_that_makes_no_sense_is_refused(string key, string value)
    {
        File("t.csv", "a,b\n1,2\n");
        Assert.Contains("office.yaml", Assert.Throws<TransferraException>(() => _stores.Open(Here((key, value)))).Next,
            StringComparison.Ordinal);
    }

    [Fact]
    public void What_would_not_read_back_is_refused_row_by_row()
    {
        TableShape table = new("t", [new("d", FieldType.Date), new("s", FieldType.Text)], [], []);
        var batch = new RecordBatch(table.Columns);
        foreach ((long day, string text) in ((long, string)[])[(new DateOnly(1949, 1, 1).DayNumber, "a"),
            (new DateOnly(2024, 1, 1).DayNumber, "Ж"),
            (new DateOnly(2024, 1, 2).DayNumber, "é")])
        {
            ((LongVector)batch.Vectors[0]).Append(day);
            ((BytesVector)batch.Vectors[1]).Append(Encoding.UTF8.GetBytes(text));
        }
        var rejects = new List<RowReject>();
        using (IStoreBuilder builder = _stores.Create(Here(("dates", "DD/MM/RR"), ("encoding", "windows-1252"))))
        {
            builder.CreateTable(table);
            builder.Write([new TableOutput(table, batch.Vectors)], [0, 1, 2], rejects);
            builder.Complete(new Dictionary<string, string>());
        }
        Assert.Equal([(0, FaultCode.NotADate), (1, FaultCode.NotText)], rejects.Select(reject => (reject.Row, reject.Code)));
        Assert.Equal("d,s\r\n02/01/24,é\r\n", System.IO.File.ReadAllText(Path.Combine(_folder["text"], "t.csv"),
            Encoding.GetEncoding(1252)));
    }

    [Fact]
    public void A_missing_value_alone_in_a_line_is_refused_as_it_would_be_an_empty_line()
    {
        TableShape table = new("t", [new("s", FieldType.Text)], [], []);
        var batch = new RecordBatch(table.Columns);
        batch.Vectors[0].AppendNull();
        ((BytesVector)batch.Vectors[0]).Append([]);
        var rejects = new List<RowReject>();
        using IStoreBuilder builder = _stores.Create(Here());
        builder.CreateTable(table);
        builder.Write([new TableOutput(table, batch.Vectors)], [0, 1], rejects);
        builder.Complete(new Dictionary<string, string>());
        Assert.Equal(FaultCode.MissingValue, Assert.Single(rejects).Code);
        Assert.Equal(["<>"], Read(Here(("header", "yes")), "t", new ColumnShape("s", FieldType.Text)).Rows);
    }

    [Fact]
    public void Any_bytes_end_in_records_and_faults_never_in_a_crash_a_hang_or_a_silent_loss()
    {
        int seed = Seeds.Given;
        var random = new Random(seed);
        byte[] letters = "ab,;\"\"\"\n\n\r\xC3\xA9"u8.ToArray();
        Directory.CreateDirectory(_folder["text"]);
        for (int trial = 0; trial < 1200; trial++)
        {
            byte[] bytes = new byte[random.Next(1, 200)];
            for (int i = 0; i < bytes.Length; i++) bytes[i] = random.Next(6) == 0 ? (byte)random.Next(256)
                : letters[random.Next(letters.Length)];
            System.IO.File.WriteAllBytes(Path.Combine(_folder["text"], "t.csv"), bytes);
            using IStore store = _stores.Open(Here(("header", "no")));
            TableShape shape = store.ReadShape()[0];
            if (shape.Columns.Count == 0) continue;
            var batch = new RecordBatch(shape.Columns);
            using IRecordReader reader = store.Read(shape, []);
            Assert.False(reader.Fill(batch));
            Assert.Equal(store.CountRows("t"), batch.RowCount);
            // Every letter of the file is in a value or in a record that is listed as faulty.
            int letterCount = bytes.Count(value => value is (byte)'a' or (byte)'b'), found =
                batch.Vectors.Sum(vector => Enumerable.Range(0, batch.RowCount).Sum(row => vector.Show(row).Count(c => c is 'a' or 'b')));
            Assert.True(found == letterCount || batch.Faults.Count > 0,
                $"seed {seed}, trial {trial}: {found} of {letterCount} letters came through, and nothing is listed");
        }
    }
}
