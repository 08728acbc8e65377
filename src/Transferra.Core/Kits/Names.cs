// Names.cs: names of tables and columns: the same in any case, and which one was probably meant.
using Transferra.Core.Records;

namespace Transferra.Core.Kits;

internal static class Names
{
    /// <summary>Whether two names are the same, in any case.</summary>
    public static bool Same(string a, string b) => string.Equals(a, b, StringComparison.OrdinalIgnoreCase);

    /// <summary>A name, or the first one with a number behind it that is not taken.</summary>
    public static string Free(string name, Func<string, bool> isTaken)
    {
        string free = name;
        for (int number = 2; isTaken(free); number++) free = FormattableString.Invariant($"{name}_{number}");
        return free;
    }

    /// <summary>Words to put behind a name that is not known: "; did you mean X?"; "" when nothing known is like it.</summary>
    public static string Meant(string name, IEnumerable<string> known)
    {
        // One slip in every four letters, and at least one, is still the same word.
        int most = Math.Max(1, Math.Min(3, name.Length / 4));
        (string Name, int Slips)[] near = [.. known.Distinct().Select(other => (other, Slips(name.ToUpperInvariant(), other
            .ToUpperInvariant()))).Where(other => other.Item2 <= most).OrderBy(other => other.Item2)];
        return near.Length == 0 ? "" : $"; did you mean {near[0].Name}?";
    }

    /// <summary>Letters to add, remove, replace, or swap with the next, to make one name of the other (Damerau's distance in its
    /// restricted form).</summary>
    public static int Slips(string a, string b)
    {
        int[] before = new int[b.Length + 1], last = [.. Enumerable.Range(0, b.Length + 1)], row = new int[b.Length + 1];
        for (int i = 1; i <= a.Length; i++)
        {
            row[0] = i;
            for (int j = 1; j <= b.Length; j++)
            {
                row[j] = Math.Min(Math.Min(row[j - 1], last[j]) + 1, last[j - 1] + (a[i - 1] == b[j - 1] ? 0 : 1));
                if (i > 1 && j > 1 && a[i - 1] == b[j - 2] && a[i - 2] == b[j - 1]) row[j] = Math.Min(row[j], before[j - 2] + 1);
            }
            (before, last, row) = (last, row, before);
        }
        return last[b.Length];
    }

    /// <summary>A table by name; null when there is none such, which is then reported. Where nobody knows the tables yet, one without
    /// columns.</summary>
    public static TableShape? Table(PlacedText name, IReadOnlyList<TableShape> tables, DescriptionErrors errors,
        string where = "in this version")
    {
        TableShape? table = tables.FirstOrDefault(table => Same(table.Name, name.Value));
        if (table is null && name.Value.Length > 0)
            errors.NotThere(name, $"there is no table {name} {where}{Meant(name.Value, tables.Select(known => known.Name))}");
        return table ?? (errors.StoreIsUnknown ? new TableShape(name.Value, [], [], []) : null);
    }

    /// <summary>Whether a table has a column; reported when not, unless nobody knows the tables yet.</summary>
    public static bool HasColumn(TableShape table, PlacedText column, DescriptionErrors errors)
    {
        if (table.OrdinalOf(column.Value) >= 0) return true;
        errors.NotThere(column, NoColumn(table, column.Value));
        return false;
    }

    /// <summary>That a table has no such column, in words.</summary>
    public static string NoColumn(TableShape table, string column) =>
        $"the table {table.Name} has no column {column}{Meant(column, table.Columns.Select(known => known.Name))}";
}
