// Proposals.cs: where others converted and the match did not come out even: the lines of the hop that would explain it, each with its
// evidence. They are found by values, never by names alone, and explain nothing until a person has put them into the kit and matched again.
// Holds: (1) a rename is proposed only when every record has the same value on both sides; (2) no private value stands in a proposal.
using Transferra.Core.Expressions;
using Transferra.Core.Kits;
using Transferra.Core.Machine;
using Transferra.Core.Records;

namespace Transferra.Core.Matching;

/// <summary>What could be written into a hop.</summary>
/// <param name="File">The hop's file.</param>
/// <param name="Line">As YAML, below the key that Under names.</param>
/// <param name="Under">tables or tables-left-out.</param>
/// <param name="Evidence">What speaks for it, or what a person has to know before.</param>
public sealed record Proposal(string File, string Under, string Line, string Evidence);

/// <param name="hop">What answered to what.</param>
/// <param name="old">The old store.</param>
/// <param name="renewed">The new one.</param>
/// <param name="cancel">Stops.</param>
internal sealed class Proposals(Correspondence hop, IStore old, IStore renewed, CancellationToken cancel)
{
    // Pairs of columns, or of tables, that are tried by reading them; more would take longer than a person who thinks.
    private const int MostTried = 24, MostCodes = 40, LeastSeen = 2, MostKeys = 5;

    private readonly IReadOnlyList<TableShape> _real = renewed.ReadShape();
    private readonly List<Proposal> _found = [];

    private static bool Same(string a, string b) => string.Equals(a, b, StringComparison.OrdinalIgnoreCase);

    /// <summary>What would explain what the match found.</summary>
    public IReadOnlyList<Proposal> Of(MatchResult match)
    {
        if (!hop.IsByOthers) return [];
        HashSet<string> renamed = RenamedTables();
        foreach (NamedPart table in hop.Gone.Where(gone => gone.Column.Length == 0 && !renamed.Contains(gone.Table)))
            Add("tables-left-out", $"{YamlText.Of(table.Table)}: ...", "if nothing of it is needed any more; write the reason in place "
                + "of the "
                + "dots");
        foreach (TableMap map in hop.Tables) OfTable(map, match);
        return _found;
    }

    private void Add(string under, string line, string evidence) => _found.Add(new Proposal(hop.File, under, line, evidence));

    private HashSet<string> RenamedTables()
    {
        var renamed = new HashSet<string>();
        int tried = 0;
        TableShape[] added = [.. hop.Added.Where(part => part.Column.Length == 0)
            .Select(part => _real.FirstOrDefault(known => known.Name == part.Table)).OfType<TableShape>()];
        foreach (TableShape gone in hop.Gone.Where(part => part.Column.Length == 0).Select(part => hop.From.Table(part.Table))
            .OfType<TableShape>())
            foreach (TableShape candidate in added)
            {
                if (!gone.Columns.All(column => candidate.OrdinalOf(column.Name) >= 0)
                    || old.CountRows(gone.Name) != renewed.CountRows(candidate.Name) || tried++ >= MostTried) continue;
                (ColumnShape, ColumnShape)[] pairs = [.. gone.Columns.Select(column =>
                    (column, candidate.Columns[candidate.OrdinalOf(column.Name)]))];
                if (DigestOf(old, gone.Name, pairs, isOld: true) is not { } a || a.Rows == 0
                    || a != DigestOf(renewed, candidate.Name, pairs, isOld: false)) continue;
                renamed.Add(gone.Name);
                Add("tables", $"- {{from: {YamlText.Of(gone.Name)}, into: {{{YamlText.Of(candidate.Name)}: {{}}}}}}",
                    FormattableString.Invariant($"all {a.Rows} records are the same in every column"));
                break;
            }
        return renamed;
    }

    // Null when a value cannot be read as what both sides hold.
    private Fingerprint? DigestOf(IStore store, string table, IReadOnlyList<(ColumnShape Old, ColumnShape New)> columns, bool isOld)
    {
        var shape = new TableShape(table, [.. columns.Select(pair => (isOld ? pair.Old : pair.New) with
        {
            Type = HopByNames.Wider(pair.Old.Type, pair.New.Type),
            Required = false
        })], [], []);
        Fingerprint sum = default;
        foreach (RecordBatch batch in store.Batches(shape, [], cancel))
        {
            if (batch.Faults.Count > 0) return null;
            var encoder = new RowEncoder(shape, batch.Vectors);
            for (int row = 0; row < batch.RowCount; row++) sum += Fingerprint.Of(encoder.Row(row));
        }
        return sum;
    }

    private void OfTable(TableMap map, MatchResult match)
    {
        TargetMap? target = map.Into.Count == 1 ? map.Into[0] : null;
        if (target is null) return;
        string[] gone = [.. hop.Gone.Where(part => part.Column.Length > 0 && Same(part.Table, map.From.Name)).Select(part => part.Column)];
        string[] added = [.. hop.Added.Where(part => part.Column.Length > 0 && Same(part.Table, target.Table.Name))
            .Select(part => part.Column)];
        Difference[] differences = [.. match.Differences.Where(difference => difference.Table == target.Table.Name)];
        var columns = new List<string>();
        var more = new List<string>();
        var evidence = new List<string>();
        foreach (string column in gone) OfGoneColumn(map, target, column, added, columns, more, evidence);
        foreach (IGrouping<string, Difference> column in differences.Where(difference => difference.Kind == DifferenceKind.Value)
            .GroupBy(difference => difference.Column)) OfValues(map, target, column.Key, [.. column], columns, more, evidence);
        OfMissing(map, target, [.. differences.Where(difference => difference.Kind == DifferenceKind.Missing)], more, evidence);
        if (columns.Count + more.Count == 0) return;
        // Several columns left out, or several lists of codes, stand under one key.
        more = [.. more.GroupBy(part => part[..part.IndexOf(':', StringComparison.Ordinal)]).Select(of => of.Count() == 1 ? of.First()
            : $"{of.Key}: {{{string.Join(", ", of.Select(part => part[(of.Key.Length + 3)..^1]))}}}")];
        string into = columns.Count > 0 || !Same(map.From.Name, target.Table.Name)
            ? $", into: {{{YamlText.Of(target.Table.Name)}: {{{string.Join(", ", columns)}}}}}" : "";
        Add("tables", $"- {{from: "
            + $"{YamlText.Of(map.From.Name)}{into}{string.Concat(more.Select(part => ", " + part))}}}", string.Join("; ", evidence)
            + (map.Into[0].Columns.Any(column => !Correspondence.IsColumn(column.Value, column.Column.Name)) || map.RowsLeftOut.Count > 0
                ? "; the hop has an entry of this table, to which it belongs" : ""));
    }

    private void OfGoneColumn(TableMap map, TargetMap target, string column, string[] added, List<string> columns, List<string> more,
        List<string> evidence)
    {
        ColumnShape was = map.From.Columns[map.From.OrdinalOf(column)];
        TableShape real = _real.First(table => table.Name == target.Table.Name);
        // The records are told by their key, or by all that they share.
        ColumnMap[] shared = [.. target.Columns.Where(known => known.Value is ColumnReference { Lookup: null }
            && (target.Table.Key.Count == 0 || target.Table.Key.Contains(known.Column.Name, StringComparer.OrdinalIgnoreCase)))];
        (ColumnShape, ColumnShape)[] told = [.. shared.Select(known =>
            (map.From.Columns[map.From.OrdinalOf(((ColumnReference)known.Value).Name)], known.Column))];
        foreach (ColumnShape candidate in added.Take(MostTried).Select(name => real.Columns[real.OrdinalOf(name)])
            .Where(candidate => IsLike(was.Type, candidate.Type)))
        {
            (ColumnShape, ColumnShape)[] pairs = [.. told, (was, candidate)];
            if (DigestOf(old, map.From.Name, pairs, isOld: true) is not { } a
                || a != DigestOf(renewed, real.Name, pairs, isOld: false)) continue;
            columns.Add($"{YamlText.Of(candidate.Name)}: {YamlText.Of(was.Name)}");
            evidence.Add(FormattableString.Invariant($"{was.Name} and {candidate.Name} have the same value in all {a.Rows} records"));
            return;
        }
        more.Add($"columns-left-out: {{{YamlText.Of(column)}: ...}}");
        evidence.Add($"if {column} is not needed any more; write the reason in place of the dots");
    }

    private static bool IsLike(FieldType a, FieldType b) => a.Kind == b.Kind;

    // A list of codes, or one value for all, as far as the listed differences tell.
    private static void OfValues(TableMap map, TargetMap target, string column, Difference[] differences, List<string> columns,
        List<string> more, List<string> evidence)
    {
        ColumnMap known = target.Columns.First(known => known.Column.Name == column);
        if (known.Column.IsPrivate || known.Column.Type.Kind != FieldKind.Text
            || known.Value is not ColumnReference { Lookup: null } reference
            || map.From.Columns[map.From.OrdinalOf(reference.Name)].IsPrivate || differences.Length < LeastSeen) return;
        ILookup<string, string> codes = differences.ToLookup(difference => difference.Expected, difference => difference.Found);
        string counted = FormattableString.Invariant($"so it is in the {differences.Length} listed records in which {column} differs");
        if (codes.Count > 1 && codes.All(code => code.All(found => found == differences[0].Found)))
        {
            columns.Add($"{YamlText.Of(column)}: "
                + $"{YamlText.Quoted("'" + differences[0].Found.Replace("'", "''", StringComparison.Ordinal) + "'")}");
            evidence.Add(counted);
        }
        else if (codes.Count <= MostCodes && codes.All(code => code.Distinct().Count() == 1)
            && differences.Length * 2 >= codes.Count * 3 && differences.All(difference => difference.Change is ChangeKind.Recoded
                or ChangeKind.Other or ChangeKind.Constant))
        {
            string name = new([.. column.ToLowerInvariant().Select(c => char.IsAsciiLetterOrDigit(c) ? c : '_')]);
            more.Add($"lookups: {{{name}_codes: {{by: {YamlText.Of(reference.Name)}, codes: {{{string.Join(", ", codes.Select(code =>
                $"{YamlText.Quoted(code.Key)}: {YamlText.Quoted(code.First())}"))}}}}}}}");
            columns.Add($"{YamlText.Of(column)}: {{is: {name}_codes.code, changes: codes of the new version, compared-with: "
                + $"{YamlText.Of(reference.Name)}}}");
            evidence.Add(counted + "; add the codes that stay as they are");
        }
    }

    private static void OfMissing(TableMap map, TargetMap target, Difference[] missing, List<string> more, List<string> evidence)
    {
        if (missing.Length is 0 or > MostKeys || target.Table.Key is not [var key] || target.Columns.FirstOrDefault(column =>
            Same(column.Column.Name, key))?.Value is not ColumnReference { Lookup: null } reference) return;
        ColumnShape column = map.From.Columns[map.From.OrdinalOf(reference.Name)];
        if (column.IsPrivate || column.Type.Kind is not (FieldKind.Integer or FieldKind.Text)) return;
        string Written(string value) => column.Type.Kind == FieldKind.Integer ? value
            : "'" + value.Replace("'", "''", StringComparison.Ordinal) + "'";
        more.Add($"rows-left-out: [{{where: {YamlText.Quoted($"{column.Name} IN ({string.Join(", ", missing.Select(difference =>
            Written(difference.Key)))})")}, because: ...}}]");
        evidence.Add("if they were meant to go; better a condition that says why, and the reason in place of the dots");
    }
}
