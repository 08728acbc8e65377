using System.Globalization;
using System.Text;
using Transferra.Core.Matching;
using Transferra.Core.Records;
using Transferra.Tests;

namespace Transferra.Core.Tests;

/// <summary>In what way values differ, told by the values; and every difference counted under one kind.</summary>
public sealed class ChangeKindTests(ITestOutputHelper output)
{
    private static readonly FieldType Amount = FieldType.Decimal(12, 3);

    private static Vector One(FieldType type, string? value)
    {
        Vector vector = Vector.Create(type);
        MemoryStore.Append(vector, value is null ? null : type.Kind switch
        {
            FieldKind.Integer => long.Parse(value, CultureInfo.InvariantCulture),
            FieldKind.Decimal => DecimalText.TryParse(Encoding.ASCII.GetBytes(value), type.Precision, type.Scale, out Int128 units) is null
                ? units : throw new FormatException(value),
            FieldKind.Date => DateOnly.Parse(value, CultureInfo.InvariantCulture),
            _ => value
        });
        return vector;
    }

    [Theory]
    [InlineData("text", "Bassoon  ", "Bassoon", ChangeKind.Blanks)]
    [InlineData("text", "Bassoon", " Bassoon", ChangeKind.Blanks)]
    [InlineData("text", "Bassoon in B flat", "Bassoon in", ChangeKind.Cut)]
    [InlineData("text", "Bassoon in B flat", "Bassoon in ", ChangeKind.Cut)]
    [InlineData("text", "Bassoon", "BASSOON", ChangeKind.Case)]
    [InlineData("text", "M\u00FCller", "Mu\u0308ller", ChangeKind.Accents)]
    [InlineData("text", "M\u00FCller", "M\u00C3\u00BCller", ChangeKind.CodePage)]
    [InlineData("text", "M\u00FCller", "M\u00B3ller", ChangeKind.CodePage)] // windows-1252 read as ibm850
    [InlineData("text", "M\u00FCller", "M?ller", ChangeKind.CodePage)]
    [InlineData("text", "M\u00FCller", "Muller", ChangeKind.CodePage)]
    [InlineData("text", "M\u00FCller", "Meller", ChangeKind.Other)]
    [InlineData("text", "one\r\ntwo", "one\ntwo", ChangeKind.Spacing)]
    [InlineData("text", "one\ntwo\nthree", "two\none\nthree", ChangeKind.LineOrder)]
    [InlineData("text", "x", "", ChangeKind.Gone)]
    [InlineData("text", "", "x", ChangeKind.Filled)]
    [InlineData("text", null, "  ", ChangeKind.NullOrBlank)]
    [InlineData("text", "", null, ChangeKind.NullOrBlank)]
    [InlineData("text", "x", null, ChangeKind.Gone)]
    [InlineData("amount", "12.345", "12.35", ChangeKind.Rounded)]
    [InlineData("amount", "12.345", "12.34", ChangeKind.Rounded)]
    [InlineData("amount", "12.345", "12", ChangeKind.Rounded)]
    [InlineData("amount", "12.345", "12.36", ChangeKind.Other)]
    [InlineData("amount", "12.340", "12.35", ChangeKind.Other)] // a cent is no rounding
    [InlineData("amount", "12.34", "-12.34", ChangeKind.Sign)]
    [InlineData("amount", "12.34", "1234", ChangeKind.Point)]
    [InlineData("amount", null, "0", ChangeKind.NullOrZero)]
    [InlineData("amount", "0", null, ChangeKind.NullOrZero)]
    [InlineData("amount", null, "5", ChangeKind.Filled)]
    [InlineData("whole", "1200", "12", ChangeKind.Point)]
    [InlineData("whole", "7", "-7", ChangeKind.Sign)]
    [InlineData("whole", "7", "8", ChangeKind.Other)]
    [InlineData("day", "2025-03-04", "2025-03-05", ChangeKind.Day)]
    [InlineData("day", "2025-03-04", "2025-04-03", ChangeKind.DayAndMonth)]
    [InlineData("day", "1925-03-04", "2025-03-04", ChangeKind.Century)]
    [InlineData("day", "2025-03-04", "2025-03-14", ChangeKind.Other)]
    public void A_change_is_told_by_its_values(string type, string? expected, string? found, ChangeKind kind)
    {
        FieldType of = type switch { "text" => FieldType.Text, "amount" => Amount, "whole" => FieldType.Integer, _ => FieldType.Date };
        Assert.Equal(kind, ChangeKinds.Of(One(of, expected), 0, One(of, found), 0));
    }

    // A table that nothing was to change is compared as it is stored, whatever its columns are declared for.
    [Theory]
    [InlineData("text", "Bassoon ", "Bassoon", ChangeKind.Blanks)]
    [InlineData("text", "2025-03-04", "2025-03-05", ChangeKind.Day)]
    [InlineData("text", "2025-03-04 10:00:00", "2025-03-04 11:00:00", ChangeKind.Hours)]
    [InlineData("whole", "7", "-7", ChangeKind.Sign)]
    [InlineData("kept", "7", "7", ChangeKind.Kept)]
    [InlineData("kept", "7", "8", ChangeKind.Other)]
    public void Values_of_several_kinds_are_told_by_what_they_look_like(string kinds, string expected, string found, ChangeKind kind)
    {
        var values = new BytesVector(new FieldType(FieldKind.Any));
        if (kinds == "text") AnyValue.Append(values, AnyValue.Text, Encoding.UTF8.GetBytes(expected));
        else AnyValue.Append(values, long.Parse(expected, CultureInfo.InvariantCulture));
        if (kinds == "whole") AnyValue.Append(values, long.Parse(found, CultureInfo.InvariantCulture));
        else AnyValue.Append(values, AnyValue.Text, Encoding.UTF8.GetBytes(found));
        values.AppendNull();
        Assert.Equal(kind, ChangeKinds.Of(values, 0, values, 1));
        Assert.Equal(ChangeKind.Gone, ChangeKinds.Of(values, 0, values, 2));
    }

    [Theory]
    [InlineData(3_600_000_000, ChangeKind.Hours)]
    [InlineData(-7_200_000_000, ChangeKind.Hours)]
    [InlineData(86_400_000_000, ChangeKind.Day)]
    [InlineData(60_000_000, ChangeKind.Other)]
    [InlineData(-43_200_000_000, ChangeKind.TimeOfDay)] // noon became midnight
    public void Moments_are_told_by_how_far_they_are_away(long micros, ChangeKind kind)
    {
        var at = new LongVector(new FieldType(FieldKind.Timestamp));
        long noon = (new DateOnly(2025, 3, 4).DayNumber * 86_400_000_000) + 43_200_000_000;
        at.Append(noon);
        at.Append(noon + micros);
        Assert.Equal(kind, ChangeKinds.Of(at, 0, at, 1));
    }

    private static readonly TableShape Table = new("entry", [new ColumnShape("no", FieldType.Integer, Required: true),
        new ColumnShape("name", FieldType.Text), new ColumnShape("town", FieldType.Text), new ColumnShape("amount", Amount),
        new ColumnShape("day", FieldType.Date), new ColumnShape("kind", FieldType.Text)], ["no"], []);

    private static object?[] Record(int no) => [(long)no, $"M\u00FCller und S\u00F6hne {no}", $"Quaverholt {no % 17}",
        (Int128)((no * 12_347) + 1), new DateOnly(2024, 1, 12).AddDays(no % 300), "ABC"[no % 3].ToString()];

    private static (ChangeKind Kind, Func<object?[], object?[]> Change)[] Plants =>
    [
        (ChangeKind.Blanks, row => With(row, 1, row[1] + " ")),
        (ChangeKind.Cut, row => With(row, 1, ((string)row[1]!)[..9])),
        (ChangeKind.Case, row => With(row, 1, ((string)row[1]!).ToUpperInvariant())),
        (ChangeKind.Accents, row => With(row, 1, ((string)row[1]!).Replace("\u00FC", "u\u0308", StringComparison.Ordinal))),
        (ChangeKind.CodePage, row => With(row, 1, TextEncodings.ByName("windows-1252").GetString(Encoding.UTF8.GetBytes(
            (string)row[1]!)))),
        (ChangeKind.Gone, row => With(row, 2, null)),
        (ChangeKind.Rounded, row => With(row, 3, ((Int128)row[3]! / 1000) * 1000)),
        (ChangeKind.Sign, row => With(row, 3, -(Int128)row[3]!)),
        (ChangeKind.NullOrZero, row => With(row, 3, null)), // of the records whose amount is made 0 first
        (ChangeKind.Day, row => With(row, 4, ((DateOnly)row[4]!).AddDays(1))),
        (ChangeKind.Swapped, row => With(With(row, 1, row[2]), 2, row[1])),
        (ChangeKind.Missing, _ => []),
        (ChangeKind.Doubled, row => row),
    ];

    private static object?[] With(object?[] row, int column, object? value)
    {
        object?[] copy = [.. row];
        copy[column] = value;
        return copy;
    }

    [Theory]
    [InlineData(true)]
    [InlineData(false)] // records are then paired by what they share
    public void Thousands_of_planted_changes_are_all_counted_and_nearly_all_under_their_kind(bool hasKey)
    {
        TableShape table = hasKey ? Table : Table with { Key = [] };
        var random = new Random(Seeds.Given);
        output.WriteLine($"seed {Seeds.Given}");
        (int planted, int right) = (0, 0);
        for (int round = 0; round < 60; round++)
        {
            var old = new List<object?[]>();
            var renewed = new List<object?[]>();
            var wanted = new Dictionary<ChangeKind, long>();
            int values = 0;
            for (int no = 1; no <= 200; no++)
            {
                object?[] row = Record(no);
                (ChangeKind kind, Func<object?[], object?[]> change)? plant = random.Next(4) == 0 ? Plants[random.Next(Plants.Length)]
                    : null;
                if (plant?.kind == ChangeKind.NullOrZero) row[3] = (Int128)0;
                old.Add(row);
                object?[] changed = plant?.change(row) ?? row;
                if (changed.Length > 0) renewed.Add(changed);
                if (plant is not { } planned) continue;
                if (planned.kind == ChangeKind.Doubled) renewed.Add(changed);
                int count = planned.kind == ChangeKind.Swapped ? 2 : 1;
                wanted[planned.kind] = wanted.GetValueOrDefault(planned.kind) + count;
                values += count;
            }
            var told = new List<Difference>();
            using var every = new DifferenceSpill(told.Add);
            var differences = new TableDifferences(table, 1000, CancellationToken.None) { Every = every };
            differences.Compare(Rows(old), Rows([.. renewed.OrderBy(_ => random.Next())]));
            Assert.Equal(values, differences.Count);
            Assert.Equal(values, differences.Changes.Sum(change => change.Count));
            Assert.Equal(differences.Listed, told);
            Assert.Equal(values, told.Count);
            planted += values;
            right += (int)wanted.Sum(kind => Math.Min(kind.Value, differences.Changes.Where(change => change.Kind == kind.Key)
                .Sum(change => change.Count)));
        }
        output.WriteLine($"{right} of {planted} under their kind");
        Assert.True(right >= planted * 0.95, $"{right} of {planted}");
    }

    [Fact]
    public void Codes_and_constants_are_seen_over_all_records_and_sums_of_money_are_told()
    {
        object?[][] old = [.. Enumerable.Range(1, 60).Select(Record)];
        var differences = new TableDifferences(Table, 10, CancellationToken.None);
        differences.Compare(Rows(old), Rows([.. old.Select(row => With(With(With(row, 5, (string)row[5]! switch
        {
            "A" => "10",
            "B" => "20",
            _ => "30"
        }), 2, "Unknown"), 3, (Int128)row[3]! + 10))]));
        Assert.Equal([("amount", ChangeKind.Other, 60L, "0.600"), ("kind", ChangeKind.Recoded, 60L, null),
            ("town", ChangeKind.Constant, 60L, null)], differences.Changes.Select(change => (change.Column, change.Kind, change.Count,
                change.Sum)));
        Assert.Contains(differences.Listed, listed => listed is { Column: "kind", Change: ChangeKind.Recoded });
    }

    private static IEnumerable<PickedRows> Rows(IEnumerable<object?[]> rows)
    {
        var batch = new RecordBatch(Table.Columns, new BatchLimits(100_000, long.MaxValue));
        foreach (object?[] row in rows)
            for (int column = 0; column < row.Length; column++) MemoryStore.Append(batch.Vectors[column], row[column]);
        yield return new PickedRows(batch.Vectors, Enumerable.Range(0, batch.RowCount), []);
    }
}
