// SpokenOf.cs: the tables and columns that a hop changes, to tell whether it accounts for a declaration that is not what it was.
using Transferra.Core.Kits;
using Transferra.Core.Records;

namespace Transferra.Core.Matching;

/// <param name="hop">The hop.</param>
internal sealed class SpokenOf(Correspondence hop)
{
    private readonly string[] _touched = [.. hop.TablesLeftOut.Keys.Concat(hop.Tables.Where(map => !hop.Keeps(map))
        .SelectMany(map => map.Into.Select(target => target.Table.Name).Append(map.From.Name)))];

    private readonly string[] _known = [.. hop.From.Tables.Concat(hop.To.Tables).Select(table => table.Name)];

    private readonly string[] _gone = [.. Gone(hop)], _changed = [.. Changed(hop)];

    /// <summary>Whether the hop accounts for a declaration that is another one or not there. One that is gone without being of a table
    /// that changes is accounted for only when it speaks of something that is gone, too; one of a table that stays as it is, only when it
    /// speaks of one that changes.</summary>
    /// <param name="thing">As the store has it that has it.</param>
    /// <param name="isThere">Whether the new store has one of this name.</param>
    public bool AccountFor(StoreDeclaration thing, bool isThere)
    {
        // Where others convert, what they declare anew is their matter; it is listed.
        if (hop.IsByOthers) return true;
        bool isTouched = _touched.Any(table => IsOf(thing, table));
        // A counter goes on with the records that come in.
        if (thing.Kind == "counter" && isThere) return isTouched;
        if (!isTouched && _known.Any(table => IsOf(thing, table)))
        {
            string ofOthers = thing.Text.Replace(thing.Of, "", StringComparison.OrdinalIgnoreCase);
            if (!_touched.Any(table => Mentions(ofOthers, LastPart(table)))) return false;
        }
        return (isThere || isTouched ? _gone.Concat(_changed) : _gone).Any(word => Mentions(thing.Name, word) || Mentions(thing.Of, word)
            || Mentions(thing.Text, word));
    }

    // The store writes the schema before every table, the versions only before those of other schemas than the company's own.
    private bool IsOf(StoreDeclaration thing, string table)
    {
        string of = thing.Of.Replace("\"", "", StringComparison.Ordinal);
        if (RevisedTable.Same(of, table)) return true;
        return of.EndsWith("." + table, StringComparison.OrdinalIgnoreCase) && !_known.Any(known => RevisedTable.Same(known, of));
    }

    private static string LastPart(string table) => table[(table.LastIndexOf('.') + 1)..];

    private static IEnumerable<string> Gone(Correspondence hop)
    {
        foreach (string table in hop.TablesLeftOut.Keys) yield return table;
        foreach (TableMap map in hop.Tables.Where(map => !hop.Keeps(map)))
        {
            // What pointed to its key points to nothing when it has another one.
            if (map.Into.All(target => target.Table.Name != map.From.Name || !target.Table.Key.SequenceEqual(map.From.Key)))
                yield return map.From.Name;
            foreach (ColumnShape column in map.From.Columns.Where(column => !map.Into.Any(target => target.Columns.Any(into =>
                Correspondence.IsColumn(into.Value, column.Name))))) yield return column.Name;
        }
    }

    // Columns that are renamed, of another type, required, or new; tables that are new, or have another key.
    private static IEnumerable<string> Changed(Correspondence hop)
    {
        foreach (TableShape table in hop.To.Tables.Where(table => !hop.From.Tables.Any(old => old.Name == table.Name)))
            yield return table.Name;
        foreach (TableMap map in hop.Tables.Where(map => !hop.Keeps(map)))
        {
            foreach (ColumnMap into in map.Into.SelectMany(target => target.Columns))
            {
                ColumnShape? old = map.From.Columns.FirstOrDefault(column => column.Name == into.Column.Name);
                if (old is not null && old.Type == into.Column.Type && old.Required == into.Column.Required
                    && old.Default == into.Column.Default && (into.Column.DeclaredAs is null || into.Column.DeclaredAs == old.DeclaredAs)
                    && Correspondence.IsColumn(into.Value, old.Name)) continue;
                yield return into.Column.Name;
                foreach (ColumnShape column in map.From.Columns.Where(column => Correspondence.IsColumn(into.Value, column.Name)))
                    yield return column.Name;
            }
            foreach (TargetMap target in map.Into.Where(target => !target.Table.Key.SequenceEqual(map.From.Key)
                || target.Table.Indexes.Count != map.From.Indexes.Count || target.Table.Relations.Count != map.From.Relations.Count))
                yield return target.Table.Name;
        }
    }

    /// <summary>Whether a name stands in a text, in any case and not as a part of another.</summary>
    public static bool Mentions(string text, string word)
    {
        for (int at = 0; (at = text.IndexOf(word, at, StringComparison.OrdinalIgnoreCase)) >= 0; at++)
        {
            bool begins = at == 0 || !IsOfName(text[at - 1]), ends = at + word.Length == text.Length || !IsOfName(text[at + word.Length]);
            if (begins && ends) return true;
        }
        return false;
    }

    private static bool IsOfName(char c) => char.IsLetterOrDigit(c) || c is '_' or '$';
}
