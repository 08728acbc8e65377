using Transferra.Core.Expressions;
using Transferra.Core.Records;
using Transferra.Tests;

namespace Transferra.Core.Tests;

public class ExpressionTests
{
    private static readonly ColumnShape[] Columns =
    [
        new("T", FieldType.Text), new("N", FieldType.Integer), new("M", FieldType.Decimal(14, 2)), new("D", FieldType.Date),
            new("B", FieldType.Boolean),
            new("NOTHING", FieldType.Text),
    ];

    private static readonly ExpressionScope Scope = new("SAMPLE", Columns,
        [new LookupShape("acc", [new("ID", FieldType.Integer)], ExpressionParser.Parse("T"), FieldType.Text, false)],
        new Dictionary<string, string> { ["scheme"] = "cash" });

    // One row: T = "Größe 12 ", N = 7, M = 12.50, D = 2024-02-29, B = true, NOTHING = null.
    private static (string Value, IReadOnlyList<RowFault> Faults) Evaluate(string expression)
    {
        var batch = new RecordBatch(Columns);
        object?[] values = ["Größe 12 ", 7L, (Int128)1250, new DateOnly(2024, 2, 29), true, null];
        for (int i = 0; i < values.Length; i++) MemoryStore.Append(batch.Vectors[i], values[i]);
        var lookup = new LookupTable("ACCTS", [new("ID", FieldType.Integer)]);
        var key = new BytesVector(FieldType.Text);
        key.Append("known"u8);
        ((LongVector)lookup.Values.Vectors[0]).Append(99);
        lookup.AddKey(key, 0);
        var context = new EvaluationContext(batch, [lookup]) { Active = [true] };
        Vector result = new ExpressionCompiler(Scope).Compile(ExpressionParser.Parse(expression)).Evaluate(context);
        Assert.Equal(1, result.Count);
        return (result.IsNull(0) ? "null" : result.Show(0), context.Faults);
    }

    [Theory]
    [InlineData("N + 1", "8")]
    [InlineData("N - 10 * 2", "-13")]
    [InlineData("(N - 10) * 2", "-6")]
    [InlineData("-N", "-7")]
    [InlineData("M + 0.005", "12.505")]
    [InlineData("M - M", "0.00")]
    [InlineData("M * M", "156.2500")]
    [InlineData("M / 4", "3.125000")]
    [InlineData("ABS(3 - N)", "4")]
    [InlineData("MOD(N, 4)", "3")]
    [InlineData("T || '!'", "Größe 12 !")]
    [InlineData("TRIM(T)", "Größe 12")]
    [InlineData("TRIM(LEADING 'G' FROM T)", "röße 12 ")]
    [InlineData("TRIM(BOTH FROM T)", "Größe 12")]
    [InlineData("UPPER('aä')", "AÄ")]
    [InlineData("CHAR_LENGTH(T)", "9")] // characters, not bytes
    [InlineData("POSITION('ß' IN T)", "4")]
    [InlineData("SUBSTRING(T FROM 3 FOR 3)", "öße")]
    [InlineData("SUBSTRING(T FROM -1 FOR 4)", "Gr")] // the standard counts positions before the text too
    [InlineData("SUBSTRING(T FROM 7)", "12 ")]
    [InlineData("EXTRACT(YEAR FROM D)", "2024")]
    [InlineData("CAST('29/02/24' AS DATE FORMAT 'DD/MM/RR')", "2024-02-29")]
    [InlineData("CAST('31.12.50' AS DATE FORMAT 'DD.MM.RR')", "1950-12-31")] // 50 to 99 are 19xx
    [InlineData("CAST('31.12.49' AS DATE FORMAT 'DD.MM.RR')", "2049-12-31")]
    [InlineData("CAST(D AS VARCHAR(10) FORMAT 'DD.MM.YYYY')", "29.02.2024")]
    [InlineData("CAST(D AS TEXT)", "2024-02-29")]
    [InlineData("CAST(' 12.50 ' AS DECIMAL(4,2))", "12.50")]
    [InlineData("CAST(M AS DECIMAL(20,4))", "12.5000")]
    [InlineData("CAST(N AS DECIMAL(5,1))", "7.0")]
    [InlineData("CAST('1.25E+03' AS DECIMAL(6,1))", "1250.0")]
    [InlineData("CAST(' -12e-1' AS DECIMAL(6,2))", "-1.20")]
    [InlineData("CAST('4E2' AS INTEGER)", "400")]
    [InlineData("CAST('-2.5E-1' AS DOUBLE PRECISION)", "-0.25")]
    [InlineData("CAST(CAST('1E2' AS DOUBLE PRECISION) AS INTEGER)", "100")]
    [InlineData("CAST(M AS DOUBLE PRECISION)", "12.5")]
    [InlineData("CASE WHEN N > 5 THEN 'many' ELSE 'few' END", "many")]
    [InlineData("CASE N WHEN 1 THEN 'one' WHEN 7 THEN 'seven' END", "seven")]
    [InlineData("CASE N WHEN 1 THEN 'one' END", "null")]
    [InlineData("COALESCE(NOTHING, T)", "Größe 12 ")]
    [InlineData("COALESCE(NULL, 5)", "5")]
    [InlineData("NULLIF(N, 7)", "null")]
    [InlineData("N BETWEEN 5 AND 9", "true")]
    [InlineData("N NOT IN (1, 7)", "false")]
    [InlineData("T LIKE 'Gr%_2_'", "true")]
    [InlineData("T LIKE 'gr%'", "false")]
    [InlineData("'5%' LIKE '5!%' ESCAPE '!'", "true")]
    [InlineData("NOTHING IS NULL", "true")]
    [InlineData("NOTHING = 'x'", "null")]
    [InlineData("NOTHING = 'x' OR B", "true")] // unknown or true is true
    [InlineData("NOTHING = 'x' AND NOT B", "false")] // unknown and false is false
    [InlineData("NOT (NOTHING = 'x')", "null")]
    [InlineData("D >= DATE '2024-02-29'", "true")]
    [InlineData("M > 12", "true")]
    [InlineData(":scheme", "cash")]
    [InlineData("NULL", "null")]
    [InlineData("CASE WHEN B THEN 1 ELSE CAST(T AS INTEGER) END", "1")] // the branch not taken reports nothing
    [InlineData("N = 8 AND CAST(T AS INTEGER) = 1", "false")] // nor does an operand that no longer matters
    public void Computes(string expression, string expected)
    {
        (string value, IReadOnlyList<RowFault> faults) = Evaluate(expression);
        Assert.Empty(faults);
        Assert.Equal(expected, value);
    }

    [Theory]
    [InlineData("CAST(T AS INTEGER)", FaultCode.NotANumber, "T")]
    [InlineData("CAST('1.25E1' AS INTEGER)", FaultCode.NeedsRounding, "")]
    [InlineData("CAST('1E' AS DECIMAL(5,1))", FaultCode.NotANumber, "")]
    [InlineData("CAST('1E40' AS DECIMAL(38,0))", FaultCode.OutOfRange, "")]
    [InlineData("CAST('0.12345678901234567890' AS DOUBLE PRECISION)", FaultCode.NeedsRounding, "")] // a double holds 17 digits
    [InlineData("CAST('1.5 kg' AS DOUBLE PRECISION)", FaultCode.NotANumber, "")]
    [InlineData("CAST(CAST('0.5' AS DOUBLE PRECISION) AS INTEGER)", FaultCode.NeedsRounding, "")]
    [InlineData("CAST(T AS DATE)", FaultCode.NotADate, "T")]
    [InlineData("CAST('31/02/23' AS DATE FORMAT 'DD/MM/RR')", FaultCode.NotADate, "")]
    [InlineData("CAST('1/2/23' AS DATE FORMAT 'DD/MM/RR')", FaultCode.NotADate, "")]
    [InlineData("CAST(M AS DECIMAL(14,1)) + CAST('1.25' AS DECIMAL(14,1))", FaultCode.NeedsRounding, "")]
    [InlineData("CAST(M AS DECIMAL(3,2))", FaultCode.OutOfRange, "M")]
    [InlineData("CAST(T AS VARCHAR(5))", FaultCode.TooLong, "T")] // never cut
    [InlineData("M / 3", FaultCode.NeedsRounding, "M")]
    [InlineData("N / 0", FaultCode.DivisionByZero, "N")]
    [InlineData("MOD(N, 0)", FaultCode.DivisionByZero, "N")]
    [InlineData("9223372036854775807 + N", FaultCode.OutOfRange, "N")]
    [InlineData("CAST('99999999999999999999999999999999999999' AS DECIMAL(38,0)) + 1", FaultCode.OutOfRange, "")]
    [InlineData("acc.ID", FaultCode.MissingReference, "T")]
    public void A_value_that_cannot_be_computed_is_a_fault_of_its_row(string expression, FaultCode code, string column)
    {
        (string value, IReadOnlyList<RowFault> faults) = Evaluate(expression);
        Assert.Equal("null", value);
        RowFault fault = Assert.Single(faults);
        Assert.Equal((code, column), (fault.Code, fault.Column));
        Assert.DoesNotContain("Exception", fault.Reason, StringComparison.Ordinal);
    }

    [Theory]
    [InlineData("", 0, "the expression is empty")]
    [InlineData("N +", 3, "ends where")]
    [InlineData("N + X", 4, "there is no column X in SAMPLE")]
    [InlineData("acc.NAME", 0, "there is no column NAME in the lookup acc")]
    [InlineData("foo.ID", 0, "there is no lookup foo")]
    [InlineData(":other", 0, "there is no setting :other")]
    [InlineData("T + 1", 2, "arithmetic needs")]
    [InlineData("T = N", 2, "cannot be compared")]
    [InlineData("CAST(N AS MONEY)", 10, "\"MONEY\" is not a type")]
    [InlineData("CAST(T AS DATE FORMAT 'DD/MM/YY')", 0, "write RR")]
    [InlineData("CAST(N AS DATE)", 0, "cannot be cast")]
    [InlineData("ROUND(M)", 0, "there is no function ROUND")]
    [InlineData("MOD(N)", 0, "takes 2 arguments")]
    [InlineData("'open", 0, "no closing '")]
    [InlineData("N ; N", 2, "has no meaning here")]
    [InlineData("N N", 2, "expected an operator or the end")]
    [InlineData("NOT N", 4, "a condition is needed")]
    [InlineData("CASE WHEN B THEN 1 ELSE 'x' END", 0, "must be of one type")]
    [InlineData("DATE '2023-02-30'", 0, "is not a date")]
    public void A_mistake_is_told_with_its_place(string expression, int at, string what)
    {
        var error = Assert.Throws<ExpressionException>(() => new ExpressionCompiler(Scope).Compile(ExpressionParser.Parse(expression)));
        Assert.Contains(what, error.Message, StringComparison.Ordinal);
        Assert.Equal(at, error.At);
    }

    [Fact]
    public void Deep_nesting_is_refused_and_does_not_end_the_program() =>
        Assert.Throws<ExpressionException>(() => ExpressionParser.Parse(new string('(', 100_000)));

    [Fact]
    public void Any_text_either_parses_or_is_told_as_a_mistake() => FsCheck.Check.One(FsCheck.Config.QuickThrowOnFailure.WithMaxTest(2000),
        FsCheck.Fluent.Prop.ForAll<string>(text =>
        {
            try { ExpressionParser.Parse(text ?? ""); }
            catch (ExpressionException error) { return error.At >= 0 && error.At <= (text ?? "").Length; }
            return true;
        }));
}
