// DbfField.cs: one field of a .dbf table as its header describes it, and what it holds in our types. Table: docs/formats/dbf.md.
using Transferra.Core.Records;

namespace Transferra.Stores.Dbf;

/// <summary>A field.</summary>
/// <param name="Name">As the header spells it.</param>
/// <param name="Kind">The type letter.</param>
/// <param name="Offset">Of its first byte in the record; the deletion mark is byte 0.</param>
/// <param name="Length">Bytes in the record.</param>
/// <param name="Decimals">Digits after the point.</param>
/// <param name="IsNullable">Whether the null flags have a bit for it (Visual FoxPro).</param>
/// <param name="IsBinary">Whether its bytes are no text (Visual FoxPro).</param>
/// <param name="NullBit">Its bit in the null flags; -1 when it has none.</param>
/// <param name="LengthBit">For V and Q: the bit that says that the last byte holds the value's length; -1 otherwise.</param>
internal sealed record DbfField(string Name, char Kind, int Offset, int Length, int Decimals, bool IsNullable, bool IsBinary,
    int NullBit = -1, int LengthBit = -1)
{
    /// <summary>Kinds that are known here, besides "0", which holds the null flags.</summary>
    public const string KnownKinds = "CNFDLMIBTY@+OVQGP";

    /// <summary>Whether the record holds a pointer into the memo file and not the value.</summary>
    public bool IsMemo(DbfLevel level) => Kind is 'M' or 'G' or 'P' || (Kind == 'B' && !level.IsVisual);

    /// <summary>The bytes that every field of its kind has; null when they differ.</summary>
    public int? FixedLength(DbfLevel level) => Kind switch
    {
        'D' or 'T' or '@' or 'Y' or 'O' => 8,
        'B' when level.IsVisual => 8,
        'I' or '+' => 4,
        'L' => 1,
        _ => null,
    };

    /// <summary>What it holds.</summary>
    public FieldType TypeIn(DbfLevel level) => Kind switch
    {
        'C' or 'V' => IsBinary ? new FieldType(FieldKind.Binary) : new FieldType(FieldKind.Text, Length: Length),
        'N' or 'F' when Decimals == 0 => Length <= 18 ? FieldType.Integer : FieldType.Decimal(Length, 0),
        'N' or 'F' => FieldType.Decimal(Math.Max(Length - 1, Decimals), Decimals),
        'D' => FieldType.Date,
        'L' => FieldType.Boolean,
        'I' or '+' => FieldType.Integer,
        'Y' => FieldType.Decimal(19, 4),
        'T' or '@' => new FieldType(FieldKind.Timestamp),
        'O' => new FieldType(FieldKind.Double),
        'B' when level.IsVisual => new FieldType(FieldKind.Double),
        'M' when !IsBinary => FieldType.Text,
        _ => new FieldType(FieldKind.Binary),
    };
}
