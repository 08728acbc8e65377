// HopDraft.cs: what answers to what between two stores, table by table and column by column. Where records can be held side by side, it is
// their values that tell (ValueRules.cs); elsewhere names, types and sketches of values, and what those alone say is a question.
// Holds: (1) every new column is in it, with what it gets or as one for which nothing was found; so is every old one.
using Transferra.Core.Expressions;
using Transferra.Core.Kits;
using Transferra.Core.Records;

namespace Transferra.Core.Drafting;

/// <param name="old">What was seen of the old store.</param>
/// <param name="renewed">What was seen of the new one.</param>
/// <param name="isPrivate">Whether a column of a table, by their names, is people's own affair.</param>
/// <param name="versions">The tables in which both tell their versions, and what the new one says; null when they do not tell it
/// so.</param>
internal sealed class HopDraft(StoreProfile old, StoreProfile renewed, Func<string, string, bool> isPrivate,
    (TableProfile Old, TableProfile New, string Tells)? versions = null)
{
    // A larger share of old records that became one together means that records are combined.
    private const double MostCombined = 0.05;

    /// <summary>Drafts it.</summary>
    public DraftedHop Of(CancellationToken cancel)
    {
        IReadOnlyList<TablePair> tables = Pairing.Of(old, renewed, versions is { } told ? (told.Old, told.New) : null);
        var pairs = new List<DraftedPair>();
        foreach (TablePair pair in tables)
        {
            cancel.ThrowIfCancellationRequested();
            pairs.Add(Of(pair));
        }
        // What a part of a table takes is not left of the table.
        pairs = [.. pairs.Select(pair => pair with
        {
            OnlyOld = [.. pair.OnlyOld.Where(column => pairs.Where(other => other.Old == pair.Old).All(other =>
                other.OnlyOld.Contains(column)))]
        })];
        return new DraftedHop(pairs, [.. old.Tables.Select(table => table.Name).Except(pairs.Select(pair => pair.Old))],
            [.. renewed.Tables.Select(table => table.Name).Except(pairs.Select(pair => pair.New))]);
    }

    private DraftedPair Of(TablePair pair)
    {
        bool isCertain = versions is { } known && known.Old == pair.Old && known.New == pair.New;
        Alignment? aligned = Alignment.Of(pair.Old, pair.New, isCertain || pair.IsSure);
        var columns = new List<DraftedColumn>();
        ValueRules? rules = aligned is null ? null : new ValueRules(old, pair, aligned, isPrivate, isCertain ? versions!.Value.Tells
            : null);
        foreach (ColumnProfile column in pair.New.Columns)
            if (rules?.Of(column) is { } made) columns.Add(made);
        // Keys that are the same by chance, as numbers from 1 are, with nothing else the same beside them: other records.
        int beside = pair.New.Columns.Count(column => !pair.New.Key.Contains(column)), explained = columns.Count(column =>
            column.IsSure && !pair.New.Key.Any(key => key.Name == column.Column));
        if (aligned is not null && !isCertain && beside > 0 && explained * 4 < beside && !columns.Exists(column =>
            column.Lookups.Count > 0))
        {
            aligned = null;
            columns.Clear();
        }
        foreach (ColumnProfile column in pair.New.Columns.Where(column => !columns.Any(made => made.Column == column.Name)))
            if (ByNames(pair, column, aligned, columns) is { } guessed) columns.Add(guessed);
        columns = Settled(pair, columns);
        string because = aligned is null ? pair.Because
            : FormattableString.Invariant($"{pair.Because}{(pair.Because.Length > 0 ? "; " : "")}{aligned.Rows} records side by side by ")
                + aligned.How;
        bool isCombined = aligned is not null && aligned.Several > (aligned.Several + aligned.Rows) * MostCombined
            && pair.New.Rows < pair.Old.Rows * (1 - MostCombined);
        if (isCombined) because += "; several old records became one: say how under lines-combined";
        bool isSure = !isCombined && (pair.IsSure || (aligned is not null && aligned.Rows >= 20 && columns.Count(column => column.IsSure)
            * 2 > pair.New.Columns.Length));
        return new DraftedPair(pair.Old.Name, pair.New.Name, because, isSure,
            [.. columns.OrderBy(column => pair.New.Shape.OrdinalOf(column.Column))],
            [.. pair.Old.Columns.Select(column => column.Name).Where(name => !columns.Any(column => column.Of.Contains(name)))],
            [.. pair.New.Columns.Select(column => column.Name).Where(name => !columns.Any(column => column.Column == name))])
        {
            Aligned = aligned?.Rows ?? 0,
            AlignedBy = aligned?.How ?? "",
            // Counted over all records that were looked at, not only over those side by side.
            Several = isCombined || aligned is null || pair.Old.Key is not [{ IsCapped: false } told] ? 0
                : (int)Math.Min(int.MaxValue, told.Rows - told.Distinct)
        };
    }

    // Two new columns that would take the same old one as it is: the one whose name is more like it does, the other is asked.
    private static List<DraftedColumn> Settled(TablePair pair, List<DraftedColumn> columns)
    {
        var settled = new List<DraftedColumn>(columns);
        foreach (IGrouping<string, DraftedColumn> same in columns.Where(column => column.Of.Count == 1 && column.Changes.Length == 0)
            .GroupBy(column => column.Of[0]).Where(same => same.Count() > 1))
        {
            DraftedColumn[] ranked = [.. same.OrderByDescending(column => NameLikeness.Of(same.Key, column.Column))];
            bool isClear = NameLikeness.Of(same.Key, ranked[0].Column) - NameLikeness.Of(same.Key, ranked[1].Column) >= 0.15;
            foreach (DraftedColumn other in isClear ? ranked.Skip(1) : ranked)
                settled[settled.IndexOf(other)] = other with
                {
                    IsSure = false,
                    Because = $"{other.Because}; {string.Join(", ", ranked.Where(rival => rival != other).Select(rival => rival.Column))} "
                        + $"of {pair.New.Name} has the same"
                };
        }
        return settled;
    }

    private static DraftedColumn? ByNames(TablePair pair, ColumnProfile column, Alignment? aligned, List<DraftedColumn> known)
    {
        ColumnProfile? same = pair.Old.Columns.FirstOrDefault(from => Names.Same(from.Name, column.Name));
        bool isEmpty = aligned is not null && Enumerable.Range(0, aligned.Rows).All(row => aligned.New.Vectors[column.Ordinal].IsNull(row));
        if (same is not null && FormOf(same, column) is { } form)
        {
            // Values that were held side by side, and differ, speak against the name.
            bool differs = aligned is not null && !isEmpty;
            bool wasEmpty = aligned is not null && same.Filled == 0;
            return new DraftedColumn(column.Name, form, differs ? "the same name, but not the same values"
                : aligned is null ? "the same name" : "the same name; nothing in it", !differs && (aligned is null || wasEmpty)
                    && form == SqlName.Of(same.Name))
            { Of = [same.Name] };
        }
        if (isEmpty && aligned is not null)
        {
            ColumnProfile? like = Like(pair, column, known, 0.6);
            return like is { Filled: 0 } && FormOf(like, column) is { } empty
                ? new DraftedColumn(column.Name, empty, "a like name; nothing in either", IsSure: false) { Of = [like.Name] } : null;
        }
        if (aligned is not null) return null;
        // Nothing side by side: values of the whole column, or else the name.
        ColumnProfile? best = pair.Old.Columns.Where(from => from.Overlap(column) > 0.6 && from.Distinct >= 8 && FormOf(from, column)
            is not null).OrderByDescending(from => from.Overlap(column) + NameLikeness.Of(from.Name, column.Name)).FirstOrDefault();
        if (best is not null)
            return new DraftedColumn(column.Name, FormOf(best, column)!, FormattableString.Invariant($"{best.Overlap(column):P0} of ")
                + "the different values", IsSure: false)
            { Of = [best.Name] };
        return Like(pair, column, known, 0.6) is { } named && FormOf(named, column) is { } guessed
            ? new DraftedColumn(column.Name, guessed, "only by its name", IsSure: false) { Of = [named.Name] } : ByPlace(pair, column);
    }

    // An old column that is not there any more, of the same type, in the same place.
    private static DraftedColumn? ByPlace(TablePair pair, ColumnProfile column) => column.Ordinal < pair.Old.Columns.Length
        && pair.Old.Columns[column.Ordinal] is var from && from.Shape.Type == column.Shape.Type && pair.New.Column(from.Name) is null
        ? new DraftedColumn(column.Name, SqlName.Of(from.Name), "only by its place and type", IsSure: false) { Of = [from.Name] } : null;

    private static ColumnProfile? Like(TablePair pair, ColumnProfile column, List<DraftedColumn> known, double least) => pair.Old.Columns
        .Where(from => !known.Any(made => made.Of.Contains(from.Name)))
        .Select(from => (From: from, Likeness: NameLikeness.Of(from.Name, column.Name))).Where(found => found.Likeness >= least)
        .OrderByDescending(found => found.Likeness).Select(found => found.From).FirstOrDefault();

    // How an old column would be written into a new one; null when their types have nothing to do with each other.
    private static string? FormOf(ColumnProfile from, ColumnProfile column)
    {
        string name = SqlName.Of(from.Name);
        (FieldKind old, FieldKind renewed) = (from.Shape.Type.Kind, column.Shape.Type.Kind);
        if (old == renewed) return name;
        if (old == FieldKind.Integer && renewed == FieldKind.Decimal) return name;
        return (old, renewed) switch
        {
            (FieldKind.Text, FieldKind.Date) => from.Dates.Count == 1 ? $"CAST({name} AS DATE FORMAT '{from.Dates[0]}')" : null,
            (FieldKind.Text, FieldKind.Integer or FieldKind.Decimal) => from.IsNumeric ? $"CAST({name} AS {column.Shape.Type})" : null,
            (FieldKind.Integer or FieldKind.Decimal or FieldKind.Date, FieldKind.Text)
                or (FieldKind.Date, FieldKind.Timestamp) or (FieldKind.Decimal, FieldKind.Integer) =>
                $"CAST({name} AS {column.Shape.Type})",
            _ => null
        };
    }
}
