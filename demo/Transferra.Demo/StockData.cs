// StockData.cs: the stock of Quaverholt Stores in the shape of Pellwright Stockroom version 3: a folder of dBASE IV tables, code page 850.
// The files are written by hand here, as the old program would, and not by the writer that is tested against them.
using System.Buffers.Binary;
using System.Globalization;
using System.Text;

namespace Transferra.Demo;

/// <summary>One company's stock.</summary>
internal sealed class StockData(int seed, int instruments, int parts, int movements)
{
    private sealed record Field(string Name, char Kind, int Length, int Decimals = 0);

    private static readonly (string Kind, string Name)[] Instruments =
    [
        ("ST", "violin"), ("ST", "viola"), ("ST", "cello"), ("ST", "double bass"), ("ST", "harp"), ("WW", "flute"), ("WW", "oboe"),
            ("WW", "clarinet"),
            ("WW", "bassoon"), ("BR", "French horn"),
        ("BR", "trumpet"), ("BR", "trombone"), ("PE", "timpani"), ("PE", "marimba"),
    ];
    private static readonly string[] Makers = ["Grünspan & Söhne", "Atelier Espérandieu", "Hjørring", "Fairweather Bros", "Núñez e Hijos",
        "Mårtensson"];
    private static readonly string[] Parts = ["A string", "E string", "bow hair", "bridge", "cork pad", "reed 2½", "valve oil", "mute",
        "peg", "spring", "timpani skin", "rosin"];
    private static readonly DateOnly FirstDay = new(2016, 1, 4);

    private readonly Chance _chance = new(seed);

    public void Write(string folder)
    {
        Directory.CreateDirectory(folder);
        Table(folder, "VERSION", [new("KEYNAME", 'C', 10), new("VAL", 'C', 10)], [["DATAVER", "3"], ["CURRENCY", "GBP"]]);
        Table(folder, "INSTR", [new("INSTRNO", 'N', 6), new("SERIAL", 'C', 12), new("KIND", 'C', 2), new("MAKER", 'C', 30),
            new("BOUGHT", 'D', 8),
            new("COST", 'N', 11, 2), new("DAYRATE", 'N', 9, 2), new("ONHIRE", 'L', 1), new("REMARK", 'M', 10)],
            Enumerable.Range(1, instruments).Select(Instrument));
        string?[][] allParts = [.. Enumerable.Range(1, parts).Select(Part)], moves = [.. Enumerable.Range(1, movements).Select(Movement)];
        // What is on hand is the sum of the movements that are not deleted.
        ILookup<string?, string?[]> byPart = moves.Where(move => move[^1] == " ").ToLookup(move => move[1]);
        foreach (string?[] part in allParts) part[3] = Text(byPart[part[0]].Sum(move => int.Parse(move[3]!, CultureInfo.InvariantCulture)));
        Table(folder, "PARTS", [new("PARTNO", 'C', 8), new("DESCR", 'C', 30), new("UNIT", 'C', 4), new("ONHAND", 'N', 8),
            new("PRICE", 'N', 9, 2)], allParts);
        Table(folder, "MOVES", [new("MOVENO", 'N', 7), new("PARTNO", 'C', 8), new("MDATE", 'D', 8), new("QTY", 'N', 7),
            new("REF", 'C', 10)], moves);
    }

    private string?[] Instrument(int number)
    {
        (string kind, string name) = _chance.Pick(Instruments);
        int cost = 5_000 + _chance.Next(900_000);
        string remark = number % 4 != 0
            ? "" : $"{name}, {(number % 8 == 0 ? "case relined" : "two repairs")}.\r\nSeen by the workshop on "
                + $"{FirstDay.AddDays(_chance.Next(3000)):dd/MM/yyyy}; next in {1 + _chance.Next(24)} months.";
        return [Text(number), $"{kind}{_chance.Next(900_000) + 100_000}", kind, _chance.Pick(Makers), number % 31 == 0 ? ""
            : Day(_chance.Next(3600)),
            Amount(cost), Amount(cost / 400), number % 5 < 2 ? "T" : number % 29 == 0 ? "?" : "F", remark];
    }

    private string?[] Part(int number) => [PartNo(number), $"{_chance.Pick(Parts)} no {number}", number % 6 == 0 ? "set" : "pc", "",
        number % 17 == 0 ? ""
        : Amount(50 + _chance.Next(9_000))];

    // Every 500th record was deleted in the old program; the file still has it, with a mark.
    private string?[] Movement(int number) => [Text(number), PartNo(1 + _chance.Next(parts)), Day(_chance.Next(3600)),
        Text(_chance.Next(40) - 12),
        number % 3 == 0 ? "" : "W" + Text(10_000 + number), number % 500 == 0 ? "*" : " "];

    private static string PartNo(int number) => "P" + number.ToString("00000", CultureInfo.InvariantCulture);

    private static string Text(int number) => number.ToString(CultureInfo.InvariantCulture);

    private static string Day(int day) => FirstDay.AddDays(day).ToString("yyyyMMdd", CultureInfo.InvariantCulture);

    private static string Amount(int pence) => string.Create(CultureInfo.InvariantCulture, $"{pence / 100}.{pence % 100:00}");

    // Layout: docs/formats/dbf.md. A row may have one cell more than fields: the deletion mark.
    private static void Table(string folder, string name, Field[] fields, IEnumerable<string?[]> rows)
    {
        bool hasMemo = fields.Any(field => field.Kind == 'M');
        string?[][] all = [.. rows];
        int headerBytes = 32 + 32 * fields.Length + 1;
        byte[] header = new byte[headerBytes];
        header[0] = hasMemo ? (byte)0x8B : (byte)0x03;
        (header[1], header[2], header[3]) = (126, 3, 31);
        BinaryPrimitives.WriteInt32LittleEndian(header.AsSpan(4), all.Length);
        BinaryPrimitives.WriteUInt16LittleEndian(header.AsSpan(8), (ushort)headerBytes);
        BinaryPrimitives.WriteUInt16LittleEndian(header.AsSpan(10), (ushort)(1 + fields.Sum(field => field.Length)));
        header[29] = 2; // code page 850
        for (int i = 0; i < fields.Length; i++)
        {
            Span<byte> entry = header.AsSpan(32 + 32 * i, 32);
            Encoding.ASCII.GetBytes(fields[i].Name, entry);
            (entry[11], entry[16], entry[17]) = ((byte)fields[i].Kind, (byte)fields[i].Length, (byte)fields[i].Decimals);
        }
        header[^1] = 0x0D;
        Encoding.RegisterProvider(CodePagesEncodingProvider.Instance);
        Encoding page = Encoding.GetEncoding(850);
        using var memo = new MemoryStream();
        memo.Write(new byte[512]);
        using FileStream file = File.Create(Path.Combine(folder, name + ".DBF"));
        file.Write(header);
        foreach (string?[] row in all)
        {
            file.WriteByte((byte)(row.Length > fields.Length ? row[^1]![0] : ' '));
            for (int i = 0; i < fields.Length; i++)
            {
                string cell = row[i] ?? "";
                if (fields[i].Kind == 'M') cell = cell.Length == 0 ? "" : Text(Memo(memo, page.GetBytes(cell)));
                file.Write(page.GetBytes(fields[i].Kind is 'N' or 'M' ? cell.PadLeft(fields[i].Length) : cell.PadRight(fields[i].Length)));
            }
        }
        file.WriteByte(0x1A);
        if (!hasMemo) return;
        byte[] memoBytes = memo.ToArray();
        BinaryPrimitives.WriteInt32LittleEndian(memoBytes, memoBytes.Length / 512);
        BinaryPrimitives.WriteUInt16LittleEndian(memoBytes.AsSpan(20), 512);
        File.WriteAllBytes(Path.Combine(folder, name + ".DBT"), memoBytes);
    }

    // A block of dBASE IV: FF FF 08 00, its length with these eight bytes, the text; filled up to 512 bytes.
    private static int Memo(MemoryStream memo, byte[] text)
    {
        int block = (int)(memo.Length / 512);
        Span<byte> head = [0xFF, 0xFF, 0x08, 0x00, 0, 0, 0, 0];
        BinaryPrimitives.WriteInt32LittleEndian(head[4..], text.Length + 8);
        memo.Write(head);
        memo.Write(text);
        memo.Write(new byte[(512 - (int)(memo.Length % 512)) % 512]);
        return block;
    }
}
