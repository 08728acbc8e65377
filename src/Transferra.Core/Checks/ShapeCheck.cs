// ShapeCheck.cs: the tables, columns and keys that are there against what the kit says of the version.
using System.Globalization;
using Transferra.Core.Conversion;
using Transferra.Core.Kits;
using Transferra.Core.Records;

namespace Transferra.Core.Checks;

internal static class ShapeCheck
{
    private const string OtherVersion = "The store is of another version than it says, or damaged. Ask the vendor.";
    private const string AddToKit = "Add it to the kit's version file, and to the hop: carried, or left out with the reason.";
    private const string Carried = "Nothing, when it is wanted; to leave it out or give it another name, add it to the kit.";

    /// <summary>Compares.</summary>
    /// <param name="store">The store.</param>
    /// <param name="version">Its version as the kit has it.</param>
    /// <param name="next">What answers to what in the hop it is to go through next; null when there is none.</param>
    /// <param name="findings">Where they go.</param>
    public static void Run(IStore store, KitVersion version, Correspondence? next, FindingCollector findings)
    {
        IReadOnlyList<TableShape> real = store.ReadShape();
        foreach (TableShape table in version.Tables)
        {
            TableShape? there = real.FirstOrDefault(other => Same(other.Name, table.Name));
            if (there is null)
            {
                Add(FindingKinds.TableMissing, Grade.Fault, table.Name, "",
                    $"the table {table.Name} of version {version.Name} is not there", OtherVersion);
                continue;
            }
            foreach (ColumnShape column in table.Columns)
            {
                int ordinal = there.OrdinalOf(column.Name);
                if (ordinal < 0)
                    Add(FindingKinds.ColumnMissing, Grade.Fault, table.Name, column.Name,
                        $"the column {table.Name}.{column.Name} of version {version.Name} is not there", OtherVersion);
                else if (Changed(there.Columns[ordinal], column, store.Identity.Engine) is { } how)
                    Add(FindingKinds.ColumnChanged, Grade.Note, table.Name, column.Name, $"the column {table.Name}.{column.Name} is {how}",
                        "Nothing, as long as none of its values is reported.");
            }
            foreach (ColumnShape column in there.Columns.Where(column => table.OrdinalOf(column.Name) < 0))
            {
                if (next is null || CustomFields.CanCarry(next, table.Name))
                    Add(FindingKinds.ColumnUnknown, Grade.Warning, there.Name, column.Name,
                        $"the column {there.Name}.{column.Name} is not known to the kit; it is carried as it is", Carried);
                else
                    Add(FindingKinds.ColumnUnknown, Grade.Fault, there.Name, column.Name,
                        $"the column {there.Name}.{column.Name} is not known to the kit, "
                            + "and cannot be carried as the table's records are combined", AddToKit);
            }
            if (there.Key.Count > 0 && table.Key.Count > 0 && !there.Key.ToHashSet(StringComparer.OrdinalIgnoreCase).SetEquals(table.Key))
                Add(FindingKinds.KeyChanged, Grade.Warning, table.Name, "",
                    $"the key of {table.Name} is {string.Join(", ", there.Key)} here, and {string.Join(", ", table.Key)} in version "
                        + $"{version.Name}",
                    "Nothing, as long as no copies or conflicts are reported.");
        }
        // Where nobody described the tables, one line says so; and one line for all that somebody added.
        if (version.IsOfStore || version.Tables.Count == 0)
            Add(FindingKinds.TablesAsTheyAre, Grade.Note, "", "", $"the tables of version {version.Name} are taken as the store has them: "
                + $"{real.Count}", "Nothing; what a kit says of a table beyond that can be checked, too.");
        else
        {
            TableShape[] extra = [.. real.Where(table => version.Table(table.Name) is null)];
            var head = new FindingHead(FindingKinds.TableUnknown, Grade.Warning, extra is [var only] ? only.Name : "", "",
                extra is [var one] ? $"the table {one.Name} is not known to the kit; it is carried as it is, with "
                    + (store.CountRows(one.Name) is 1 and var single ? $"{single} record"
                        : string.Create(CultureInfo.InvariantCulture, $"{store.CountRows(one.Name)} records"))
                    : "tables are not known to the kit; they are carried as they are, with so many records", Carried);
            if (extra.Length == 1) findings.Add(head, 1, []);
            else foreach (TableShape table in extra)
                findings.Add(head, table.Name, joined: string.Create(CultureInfo.InvariantCulture,
                    $"{table.Name}: {store.CountRows(table.Name)}"));
        }

        void Add(string kind, Grade grade, string table, string subject, string what, string next) =>
            findings.Add(new FindingHead(kind, grade, table, subject, what, next), 1, []);
    }

    // How a column is declared otherwise; null when it is not. Stores that declare nothing, or let anything into any column, say nothing
    // by it.
    private static string? Changed(ColumnShape there, ColumnShape kit, string engine)
    {
        if (engine is not ("PostgreSQL" or "MariaDB" or "Firebird" or "DBF")) return null;
        if (there.Type.Kind == FieldKind.Text && kit.Type.Kind == FieldKind.Text)
            // A .dbf field is so many bytes long, which says little of characters.
            return engine != "DBF" && kit.Type.Length > 0 && there.Type.Length > kit.Type.Length
                ? $"{there.Type} here, and {kit.Type} in the kit" : null;
        return (there.Type.Kind == FieldKind.Text) != (kit.Type.Kind == FieldKind.Text)
            && kit.Type.Kind is FieldKind.Integer or FieldKind.Decimal
            or FieldKind.Date or FieldKind.Timestamp or FieldKind.Binary
            ? $"{there.Type} here, and {kit.Type} in the kit" : null;
    }

    private static bool Same(string a, string b) => string.Equals(a, b, StringComparison.OrdinalIgnoreCase);
}
