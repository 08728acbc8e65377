// DraftPair.cs: an old and a new store made up from a seed, with what became of what: renamed, re-typed, recoded, split, reordered,
// dropped. Drafts are held against it.
using System.Globalization;
using Transferra.Core.Records;
using Transferra.Tests;

namespace Transferra.Core.Tests;

internal sealed class DraftPair
{
    private static readonly (string Old, string New, string Kind)[] Columns =
    [
        ("CNAME", "customer_name", "text"), ("TOWN", "city", "word"), ("AMT", "amount", "money"), ("QTY", "quantity", "count"),
        ("ODATE", "ordered_on", "date"), ("STAT", "state", "code"), ("ACTIVE", "is_active", "flag"), ("REF", "reference", "mark"),
        ("NOTES", "remark", "text"), ("VATC", "tax_code", "code"), ("PRICE", "unit_price", "money"), ("DUE", "due_date", "date"),
        ("GRP", "group_no", "count"), ("ADDR1", "address_line1", "text"), ("TEL", "phone", "mark"), ("DISC", "discount", "money"),
        ("EMP", "employee", "word"), ("BRANCH", "branch_code", "code"), ("Height", "Height", "count"), ("Serial", "serial_no", "mark"),
    ];

    private static readonly (string Old, string New)[] Names =
    [
        ("CUST", "customer"), ("ORDHDR", "order_head"), ("STOCKITM", "stock_item"), ("LEDGER", "ledger_entry"), ("SUPP", "supplier"),
        ("PAYS", "payment"), ("X1", "visit"), ("TBL_07", "machine"), ("invoice", "invoice"), ("Contact", "people"),
    ];

    private readonly Random _random;

    public DraftPair(int seed)
    {
        _random = new Random(seed);
        HasOtherData = Chance(12);
        foreach ((string old, string renewed) in Names.OrderBy(_ => _random.Next()).Take(1 + _random.Next(5))) Table(old, renewed);
        // Tables that have nothing to do with each other.
        if (Chance(30)) Old.With(Strange("OLDLOG"), [.. Enumerable.Range(0, 30).Select(i => new object?[] { (long)i, Word(8) })]);
        if (Chance(30)) New.With(Strange("audit"), [.. Enumerable.Range(0, _random.Next(60)).Select(i => new object?[] { (long)i,
            Word(8) })]);
    }

    private static TableShape Strange(string name) => new(name, [new ColumnShape("ID", FieldType.Integer, true),
        new ColumnShape("TXT", FieldType.Text)], ["ID"], []);

    /// <summary>Whether the new store has other records than the old one, as a new program's own.</summary>
    public bool HasOtherData { get; }

    public MemoryStore Old { get; } = new();

    public MemoryStore New { get; } = new();

    /// <summary>What each new column was made of: "table.column" to "table.column".</summary>
    public Dictionary<string, string> Truth { get; } = [];

    private bool Chance(int percent) => _random.Next(100) < percent;

    private sealed record Made(ColumnShape Old, ColumnShape New, Func<object?> Value, Func<object?, object?> Becomes);

    private void Table(string old, string renewed)
    {
        if (Chance(20)) renewed = old;
        int rows = Chance(15) ? _random.Next(15) : 15 + _random.Next(300);
        Made[] columns = [.. Columns.OrderBy(_ => _random.Next()).Take(3 + _random.Next(9)).Select(column => Make(column.Old,
            Chance(30) ? column.Old : column.New, column.Kind))];
        if (Chance(15) && columns.Length > 3)
        {
            // A name that another column had.
            string taken = columns[1].Old.Name;
            if (!columns.Skip(1).Any(column => string.Equals(column.New.Name, taken, StringComparison.OrdinalIgnoreCase)))
                columns[0] = columns[0] with { New = columns[0].New with { Name = taken } };
        }
        if (Chance(10)) columns[^1] = columns[^1] with { Value = () => null, Becomes = _ => null };
        string key = Chance(50) ? "ID" : "NO", newKey = Chance(40) ? key : "number";
        Made[] kept = [.. columns.Where(_ => !Chance(12))], parts = Chance(25) && kept.Length >= 4 ? kept[^2..] : [];
        Made[] main = [.. kept.Except(parts).OrderBy(column => Chance(30) ? _random.Next(100) : Array.IndexOf(kept, column))];
        var oldShape = new TableShape(old, [new ColumnShape(key, FieldType.Integer, true), .. columns.Select(column => column.Old)], [key],
            []);
        ColumnShape[] added = Chance(30) ? [new ColumnShape("created_by", FieldType.Text)] : [];
        var newShape = new TableShape(renewed, [new ColumnShape(newKey, FieldType.Integer, true), .. main.Select(column => column.New),
            .. added], [newKey], []);
        var part = new TableShape(renewed + "_detail", [new ColumnShape(newKey, FieldType.Integer, true), .. parts.Select(column =>
            column.New)], [newKey], []);
        long first = Chance(50) ? 1 : 1000 + _random.Next(5000);
        var oldRows = new List<object?[]>();
        var newRows = new List<object?[]>();
        var partRows = new List<object?[]>();
        for (int row = 0; row < rows; row++)
        {
            object?[] values = [.. columns.Select(column => column.Value())];
            oldRows.Add([first + row, .. values]);
            if (HasOtherData) values = [.. columns.Select(column => column.Value())];
            object? Became(Made column) => column.Becomes(values[Array.IndexOf(columns, column)]);
            newRows.Add([first + row, .. main.Select(Became), .. added.Select(_ => (object?)"setup")]);
            partRows.Add([first + row, .. parts.Select(Became)]);
        }
        Old.With(oldShape, [.. oldRows]);
        New.With(newShape, [.. newRows.OrderBy(_ => _random.Next())]);
        Truth[$"{renewed}.{newKey}"] = $"{old}.{key}";
        foreach (Made column in main) Truth[$"{renewed}.{column.New.Name}"] = $"{old}.{column.Old.Name}";
        if (parts.Length == 0) return;
        New.With(part, [.. partRows]);
        Truth[$"{part.Name}.{newKey}"] = $"{old}.{key}";
        foreach (Made column in parts) Truth[$"{part.Name}.{column.New.Name}"] = $"{old}.{column.Old.Name}";
    }

    private Made Make(string old, string renewed, string kind)
    {
        FieldType money = FieldType.Decimal(12, 2);
        switch (kind)
        {
            case "text":
                {
                    bool isTrimmed = Chance(40);
                    return new Made(new ColumnShape(old, FieldType.Text), new ColumnShape(renewed, FieldType.Text), () => Chance(8) ? null
                        : Word(3) + " " + Word(5) + (isTrimmed && Chance(30) ? "  " : ""),
                    value => isTrimmed ? ((string?)value)?.TrimEnd(' ')
                        : value);
                }
            case "word":
                {
                    string[] words = [.. Enumerable.Range(0, 25).Select(_ => Word(6))];
                    return new Made(new ColumnShape(old, FieldType.Text), new ColumnShape(renewed, FieldType.Text), () => One(words),
                        value => value);
                }
            case "mark":
                {
                    string start = Word(2).ToUpperInvariant();
                    return new Made(new ColumnShape(old, FieldType.Text), new ColumnShape(renewed, FieldType.Text), () => start
                        + _random.Next(100_000).ToString("00000", CultureInfo.InvariantCulture), value => value);
                }
            case "money":
                {
                    bool wasText = Chance(50);
                    return new Made(new ColumnShape(old, wasText ? FieldType.Text : money), new ColumnShape(renewed, money), () =>
                        wasText ? (_random.Next(500_000) / 100m).ToString("0.00", CultureInfo.InvariantCulture)
                        : (Int128)_random.Next(500_000),
                        value => value is string text ? (Int128)(decimal.Parse(text, CultureInfo.InvariantCulture) * 100) : value);
                }
            case "count":
                {
                    bool becomesText = Chance(15);
                    return new Made(new ColumnShape(old, FieldType.Integer), new ColumnShape(renewed, becomesText ? FieldType.Text
                        : FieldType.Integer), () => (long)_random.Next(400), value => becomesText
                            ? ((long)value!).ToString(CultureInfo.InvariantCulture) : value);
                }
            case "date":
                {
                    string form = One("dd/MM/yyyy", "yyyyMMdd", "dd.MM.yyyy", "real");
                    DateOnly Day() => new DateOnly(2015, 1, 1).AddDays(_random.Next(3500));
                    return new Made(new ColumnShape(old, form == "real" ? FieldType.Date : FieldType.Text), new ColumnShape(renewed,
                        FieldType.Date), () => Chance(5) ? null : form == "real" ? Day()
                        : Day().ToString(form, CultureInfo.InvariantCulture),
                        value => value is string text ? DateOnly.ParseExact(text, form, CultureInfo.InvariantCulture) : value);
                }
            case "flag":
                return new Made(new ColumnShape(old, FieldType.Text), new ColumnShape(renewed, FieldType.Boolean), () => One("Y", "N"),
                    value => (string?)value == "Y");
            default:
                {
                    string[] codes = [.. Enumerable.Range(0, 3 + _random.Next(4)).Select(i => Word(1).ToUpperInvariant()
                    + i.ToString(CultureInfo.InvariantCulture))];
                    bool isRecoded = Chance(50);
                    string[] become = [.. codes.Select(code => isRecoded ? Word(6) + code : code)];
                    return new Made(new ColumnShape(old, FieldType.Text), new ColumnShape(renewed, FieldType.Text), () => One(codes),
                        value => become[Array.IndexOf(codes, (string?)value)]);
                }
        }
    }

    private T One<T>(params T[] of) => of[_random.Next(of.Length)];

    private string Word(int letters) => new([.. Enumerable.Range(0, letters).Select(_ => (char)('a' + _random.Next(26)))]);
}
