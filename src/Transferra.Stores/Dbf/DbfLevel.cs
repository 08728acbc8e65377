// DbfLevel.cs: the level byte at the head of a .dbf file: which program family wrote it, and in which form its memos are.
// Source: the published dBASE, FoxPro and Visual FoxPro table structures; docs/formats/dbf.md has the tables.
namespace Transferra.Stores.Dbf;

/// <summary>How a table's memo file is laid out.</summary>
internal enum MemoForm
{
    None,
    /// <summary>.dbt of dBASE III: blocks of 512 bytes, text up to the byte 1A.</summary>
    DbtToEndMark,
    /// <summary>.dbt of dBASE IV: blocks that begin FF FF 08 00 and their length.</summary>
    DbtWithLength,
    /// <summary>.fpt of FoxPro: blocks that begin with their kind and length, big-endian.</summary>
    Fpt,
}

/// <summary>What a level byte means.</summary>
/// <param name="Value">The byte.</param>
/// <param name="Name">The program family.</param>
/// <param name="Memo">Form of the memo file.</param>
/// <param name="IsVisual">Whether it is of Visual FoxPro: null flags, binary memo pointers, other field types.</param>
/// <param name="HasLongNames">Whether it is of dBASE 7: a longer header, names of up to 31 bytes.</param>
internal sealed record DbfLevel(byte Value, string Name, MemoForm Memo, bool IsVisual = false, bool HasLongNames = false)
{
    public const byte VisualFoxPro = 0x30, VisualFoxProVarchar = 0x32;

    private static readonly DbfLevel[] All =
    [
        new(0x02, "FoxBASE", MemoForm.None), new(0x03, "dBASE III to V without memos", MemoForm.None),
            new(0x04, "dBASE 7 without memos", MemoForm.None, HasLongNames: true),
        new(0x05, "dBASE V without memos", MemoForm.None), new(VisualFoxPro, "Visual FoxPro", MemoForm.Fpt, IsVisual: true),
            new(0x31, "Visual FoxPro with autoincrement", MemoForm.Fpt, IsVisual: true),
        new(VisualFoxProVarchar, "Visual FoxPro with varchar", MemoForm.Fpt, IsVisual: true),
            new(0x43, "dBASE IV SQL table without memos", MemoForm.None),
            new(0x63, "dBASE IV SQL system table", MemoForm.None),
        new(0x7B, "dBASE IV with memos", MemoForm.DbtWithLength), new(0x83, "dBASE III with memos", MemoForm.DbtToEndMark),
            new(0x8B, "dBASE IV with memos", MemoForm.DbtWithLength),
        new(0x8C, "dBASE 7 with memos", MemoForm.DbtWithLength, HasLongNames: true), new(0x8E, "dBASE IV SQL table with memos",
            MemoForm.DbtWithLength),
            new(0xCB, "dBASE IV SQL table with memos", MemoForm.DbtWithLength),
        new(0xF5, "FoxPro 2 with memos", MemoForm.Fpt), new(0xFB, "FoxBASE with memos", MemoForm.DbtToEndMark),
    ];

    /// <summary>The level of a byte; null when no known program writes it.</summary>
    public static DbfLevel? Of(byte value) => All.FirstOrDefault(level => level.Value == value);
}
