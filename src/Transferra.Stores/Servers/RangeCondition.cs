// RangeCondition.cs: a range of whole numbers as SQL, which every engine understands alike. Texts, dates and decimals compare otherwise
// from engine to engine, so their ranges are passed over here, record by record.
using System.Globalization;
using System.Text;
using Transferra.Core.Records;

namespace Transferra.Stores.Servers;

internal static class RangeCondition
{
    /// <summary>The condition with WHERE; "" when there is none to ask for, or the engine should not be asked.</summary>
    /// <param name="within">The range; null for none.</param>
    /// <param name="table">What is read.</param>
    /// <param name="quote">How the engine quotes a name.</param>
    /// <param name="isWhole">Whether the engine has the column as a whole number.</param>
    public static string Of(KeyRange? within, TableShape table, Func<string, string> quote, Func<string, bool> isWhole)
    {
        if (within is null || !CanBeAsked(within, table) || !isWhole(within.Column)) return "";
        var parts = new List<string>();
        if (within.From is { } from) parts.Add($"{quote(within.Column)} >= {Whole(from)}");
        if (within.Before is { } before) parts.Add($"{quote(within.Column)} < {Whole(before)}");
        return parts.Count == 0 ? "" : " WHERE " + string.Join(" AND ", parts);
    }

    private static bool CanBeAsked(KeyRange within, TableShape table) => table.OrdinalOf(within.Column) is >= 0 and int ordinal
        && table.Columns[ordinal].Type.Kind is FieldKind.Integer or FieldKind.Any
        && (within.From is null || IsWhole(within.From)) && (within.Before is null || IsWhole(within.Before));

    private static bool IsWhole(string text) => ValueText.TryWhole(Encoding.UTF8.GetBytes(text), out _) is null;

    private static string Whole(string text)
    {
        ValueText.TryWhole(Encoding.UTF8.GetBytes(text), out long value);
        return value.ToString(CultureInfo.InvariantCulture);
    }

    /// <summary>The reader, held to its range: also where the engine was asked, as it is cheap and the same everywhere.</summary>
    public static IRecordReader Hold(IRecordReader reader, TableShape table, KeyRange? within) => within is null ? reader
        : new RangeReader(reader, table, within);
}
