using System.Globalization;
using System.Text;
using Transferra.Core.Expressions;
using Transferra.Core.Records;
using Transferra.Tests;

namespace Transferra.Core.Tests;

/// <summary>Expressions over many rows at once, against what is computed row by row here.</summary>
public sealed class ColumnKernelTests(ITestOutputHelper output)
{
    private static readonly ColumnShape[] Columns =
    [
        new("A", FieldType.Integer), new("B", FieldType.Integer), new("M", FieldType.Decimal(14, 2)), new("T", FieldType.Text),
        new("U", FieldType.Text), new("D", FieldType.Date), new("P", FieldType.Boolean), new("Q", FieldType.Boolean),
    ];

    private static readonly ExpressionScope Scope = new("SAMPLE", Columns,
    [
        new LookupShape("acc", [new("ID", FieldType.Integer), new("NAME", FieldType.Text)], ExpressionParser.Parse("T"), FieldType.Text,
            false),
        new LookupShape("num", [new("ID", FieldType.Integer)], ExpressionParser.Parse("A"), FieldType.Integer, false),
    ], new Dictionary<string, string>());

    private static string? Text(Random random) => random.Next(5) == 0 ? null : new string((char)random.Next('a', 'd'), random.Next(20));

    private static RecordBatch Filled(Random random, int rows)
    {
        var batch = new RecordBatch(Columns);
        for (int row = 0; row < rows; row++)
        {
            object?[] values = [random.Next(-3, 3), random.Next(-3, 3), (Int128)random.Next(-3, 3) * 100, Text(random), Text(random),
                new DateOnly(2024, 1, 1).AddDays(random.Next(3)), random.Next(2) == 0, random.Next(2) == 0];
            for (int i = 0; i < values.Length; i++)
                MemoryStore.Append(batch.Vectors[i], random.Next(6) == 0 ? null : values[i] is int whole ? (long)whole : values[i]);
        }
        return batch;
    }

    private static string?[] Evaluate(RecordBatch batch, string expression, IReadOnlyList<LookupTable>? lookups, out List<RowFault> faults)
    {
        var context = new EvaluationContext(batch, lookups ?? []);
        Kernel kernel = new ExpressionCompiler(Scope).Compile(ExpressionParser.Parse(expression));
        string?[]? first = null;
        for (int time = 0; time < 2; time++) // what is kept from the first time changes nothing
        {
            context.ActivateAll();
            Vector result = kernel.Evaluate(context);
            string?[] shown = [.. Enumerable.Range(0, result.Count).Select(row => result.IsNull(row) ? null : result.Show(row))];
            Assert.Equal(first ?? shown, shown);
            first = shown;
        }
        faults = context.Faults;
        return first!;
    }

    private static int? Compare(RecordBatch batch, int a, int b, int row)
    {
        if (batch.Vectors[a].IsNull(row) || batch.Vectors[b].IsNull(row)) return null;
        if (batch.Vectors[a] is BytesVector) return string.CompareOrdinal(batch.Vectors[a].Show(row), batch.Vectors[b].Show(row));
        if (Columns[a].Type.Kind == FieldKind.Date) return string.CompareOrdinal(batch.Vectors[a].Show(row), batch.Vectors[b].Show(row));
        return decimal.Parse(batch.Vectors[a].Show(row), CultureInfo.InvariantCulture)
            .CompareTo(decimal.Parse(batch.Vectors[b].Show(row), CultureInfo.InvariantCulture));
    }

    [Theory]
    [InlineData(1)]
    [InlineData(64)]
    [InlineData(65)]
    [InlineData(1000)]
    public void Comparisons_are_those_of_each_row(int rows)
    {
        output.WriteLine($"seed {Seeds.Given}");
        RecordBatch batch = Filled(new Random(Seeds.Given + rows), rows);
        (string, Func<int, bool>)[] operators = [("=", order => order == 0), ("<>", order => order != 0), ("<", order => order < 0),
            ("<=", order => order <= 0), (">", order => order > 0), (">=", order => order >= 0)];
        foreach ((int a, int b) in ((int, int)[])[(0, 1), (0, 2), (2, 1), (3, 4), (5, 5)])
            foreach ((string word, Func<int, bool> holds) in operators)
                Assert.Equal(Enumerable.Range(0, rows).Select(row => Compare(batch, a, b, row) is { } order ? holds(order) ? "true"
                    : "false" : null), Evaluate(batch, $"{Columns[a].Name} {word} {Columns[b].Name}", null, out _));
    }

    [Theory]
    [InlineData(1)]
    [InlineData(64)]
    [InlineData(300)]
    public void Logic_is_that_of_each_row_with_unknown_values_and_without(int rows)
    {
        output.WriteLine($"seed {Seeds.Given}");
        RecordBatch batch = Filled(new Random(Seeds.Given + rows), rows);
        bool? p(int row) => batch.Vectors[6].IsNull(row) ? null : ((LongVector)batch.Vectors[6]).Values[row] != 0;
        bool? q(int row) => batch.Vectors[7].IsNull(row) ? null : ((LongVector)batch.Vectors[7]).Values[row] != 0;
        void holds(string expression, Func<bool?, bool?, bool?> each) => Assert.Equal(
            Enumerable.Range(0, rows).Select(row => each(p(row), q(row)) is { } known ? known ? "true" : "false" : null),
            Evaluate(batch, expression, null, out _));
        holds("P AND Q", (a, b) => a & b); // C#'s operators on bool? are SQL's
        holds("P OR Q", (a, b) => a | b);
        holds("P IS NULL AND Q IS NULL", (a, b) => a is null && b is null);
        holds("P IS NULL OR Q IS NOT NULL", (a, b) => a is null || b is not null);
        holds("NOT P", (a, _) => !a);
    }

    [Theory]
    [InlineData(5, 2)]
    [InlineData(18, 0)]
    [InlineData(18, 18)]
    [InlineData(20, 19)]
    [InlineData(38, 19)]
    [InlineData(38, 38)]
    public void Whole_numbers_become_the_decimals_that_each_becomes_alone(int precision, int scale)
    {
        var batch = new RecordBatch(Columns);
        long[] numbers = [0, 1, -1, 9, 10, 999, 1000, -999, -1000, 99_999, 100_000, 999_999_999_999_999_999, 1_000_000_000_000_000_000,
            -1_000_000_000_000_000_000, long.MaxValue, long.MinValue];
        foreach (long? number in numbers.Cast<long?>().Append(null))
            foreach ((ColumnShape _, int column) in Columns.Select((column, i) => (column, i)))
                MemoryStore.Append(batch.Vectors[column], column == 0 ? number : null);
        string?[] shown = Evaluate(batch, $"CAST(A AS DECIMAL({precision},{scale}))", null, out List<RowFault> faults);
        for (int row = 0; row < numbers.Length; row++)
        {
            FaultCode? fault = DecimalText.TryRescale(numbers[row], 0, scale, precision, out Int128 units);
            Assert.Equal(fault is null ? DecimalText.Format(units, scale) : null, shown[row]);
            Assert.Equal(fault, faults.Where(one => one.Row == row).Select(one => (FaultCode?)one.Code).SingleOrDefault());
        }
        Assert.Null(shown[^1]);
    }

    [Fact]
    public void A_lookup_finds_for_each_row_what_its_own_key_has()
    {
        output.WriteLine($"seed {Seeds.Given}");
        RecordBatch batch = Filled(new Random(Seeds.Given), 3000);
        var names = new LookupTable("ACCTS", [new("ID", FieldType.Integer), new("NAME", FieldType.Text)]);
        var numbers = new LookupTable("NUMBERS", [new("ID", FieldType.Integer)]);
        var known = new Dictionary<string, int>();
        void add(string key)
        {
            var one = new BytesVector(FieldType.Text);
            one.Append(Encoding.UTF8.GetBytes(key));
            ((LongVector)names.Values.Vectors[0]).Append(known[key] = known.Count);
            ((BytesVector)names.Values.Vectors[1]).Append(Encoding.UTF8.GetBytes($"name {known[key]}"));
            names.AddKey(one, 0);
        }
        // Keys of every length round eight and sixteen bytes, and of none.
        foreach (int length in (int[])[0, 1, 2, 7, 8, 9, 15, 16, 17, 18])
            for (char letter = 'a'; letter < 'c'; letter++)
                if (!known.ContainsKey(new string(letter, length))) add(new string(letter, length));
        for (int number = -2; number < 2; number++)
        {
            var one = new LongVector(FieldType.Integer);
            one.Append(number);
            ((LongVector)numbers.Values.Vectors[0]).Append(number * 10);
            numbers.AddKey(one, 0);
        }
        foreach (string late in (string[])["", "c", "ccc"]) // a key that is added later is found from then on
        {
            string?[] found = Evaluate(batch, "acc.ID", [names, numbers], out List<RowFault> faults);
            for (int row = 0; row < batch.RowCount; row++)
            {
                string? key = batch.Vectors[3].IsNull(row) ? null : batch.Vectors[3].Show(row);
                Assert.Equal(key is not null && known.TryGetValue(key, out int id) ? id.ToString(CultureInfo.InvariantCulture) : null,
                    found[row]);
                Assert.Equal(key is not null && !known.ContainsKey(key), faults.Exists(fault => fault.Row == row));
            }
            if (!known.ContainsKey(late)) add(late);
        }
        Assert.Equal(Enumerable.Range(0, batch.RowCount).Select(row => batch.Vectors[0].IsNull(row) ? null
            : ((LongVector)batch.Vectors[0]).Values[row] is >= -2 and < 2 and var number
                ? (number * 10).ToString(CultureInfo.InvariantCulture) : null), Evaluate(batch, "num.ID", [names, numbers], out _));
    }
}
