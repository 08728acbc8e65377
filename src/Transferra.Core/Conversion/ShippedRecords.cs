// ShippedRecords.cs: brings what the kit says of shipped records into a correspondence, by the store that the vendor's new program made:
// those that stay become records that are new; ours that give way are left out by a rule, or get higher numbers. Conversion and match go by
// the same, and both read the vendor's store anew.
// Holds: (1) of every shipped record it is counted whether it stays or goes; (2) a shipped value that cannot be written down, or a column
// of theirs that the kit does not know, stops it; nothing of theirs is lost in silence.
using System.Globalization;
using Transferra.Core.Expressions;
using Transferra.Core.Kits;
using Transferra.Core.Machine;
using Transferra.Core.Records;

namespace Transferra.Core.Conversion;

/// <param name="hop">As the kit has it.</param>
/// <param name="made">The store that the vendor's new program made.</param>
/// <param name="old">The old store.</param>
/// <param name="settings">Answers to the new settings.</param>
/// <param name="cancel">Stops between two batches.</param>
internal sealed class ShippedRecords(Correspondence hop, IStore made, IStore old, IReadOnlyDictionary<string, string> settings,
    CancellationToken cancel)
{
    private const int MostShipped = 20_000;

    private readonly IReadOnlyList<TableShape> _there = made.ReadShape();

    private sealed record Shipped(string Key, IReadOnlyList<Expression> KeyValues, IReadOnlyList<ColumnMap> Values);

    /// <summary>The correspondence with what becomes of shipped records; the same where the hop does not begin with the vendor's
    /// store.</summary>
    public Correspondence Resolved()
    {
        if (!hop.IsOnVendorMade) return hop;
        Correspondence resolved = hop;
        var accounts = new List<ShippedAccount>();
        foreach ((TableShape table, ShippedPolicy policy, long count) in Shipping())
        {
            long overwritten = 0, offset = 0;
            if (policy == ShippedPolicy.Refuse)
                throw new TransferraException($"the new program ships {count} records in {table.Name}, and the kit says that "
                    + "there are none", $"Empty the table in the new program, or say in {hop.File} what becomes of them.");
            if (policy == ShippedPolicy.Replace) overwritten = count;
            else resolved = Stay(resolved, table, policy, count, ref overwritten, ref offset);
            accounts.Add(new ShippedAccount(table.Name, policy, count, overwritten, offset)
            {
                Following = offset == 0 ? [] : [.. hop.Tables.SelectMany(map => map.Into).SelectMany(target => target.Columns
                    .Where(column => PointsTo(target.Table, column.Column.Name, table.Name))
                    .Select(column => $"{target.Table.Name}.{column.Column.Name}"))]
            });
        }
        return resolved with { ShippedAccounts = accounts };
    }

    /// <summary>What may be overwritten, as far as it is known without the old store.</summary>
    public IReadOnlyList<ShippedAccount> AtMost() => [.. Shipping().Select(table => new ShippedAccount(table.Table.Name, table.Policy,
        table.Count, table.Policy is ShippedPolicy.Replace or ShippedPolicy.Merge ? table.Count : 0, 0))];

    /// <summary>All that the vendor ships, where nobody knows yet into which tables ours go.</summary>
    public IReadOnlyList<ShippedAccount> All() => [.. _there.Select(table => new ShippedAccount(table.Name, PolicyFor(table),
        made.CountRows(table.Name), made.CountRows(table.Name), 0)).Where(table => table.Shipped > 0)];

    // Tables into which ours go and in which the vendor ships records, with what the kit says of those.
    private IEnumerable<(TableShape Table, ShippedPolicy Policy, long Count)> Shipping() => hop.To.Tables
        .Where(table => hop.IsFed(table.Name) && _there.Any(known => RevisedTable.Same(known.Name, table.Name)))
        .Select(table => (table, PolicyFor(table), made.CountRows(table.Name))).Where(table => table.Item3 > 0);

    // A vendor's import adds ours to what its new program ships, unless the kit says otherwise.
    private ShippedPolicy PolicyFor(TableShape table) => hop.Shipped.FirstOrDefault(said => RevisedTable.Same(said.Key, table.Name)) is
    { Key: not null } said ? said.Value : hop.IsByOthers ? ShippedPolicy.Merge : ShippedPolicy.Replace;

    private Correspondence Stay(Correspondence resolved, TableShape table, ShippedPolicy policy, long count, ref long overwritten,
        ref long offset)
    {
        RequireAllKnown(table, count);
        List<Shipped> shipped = Read(table);
        if (policy == ShippedPolicy.Merge && table.Key.Count == 0) overwritten = 0;
        else if (policy == ShippedPolicy.Merge)
        {
            HashSet<string> ours = KeysOfOurs(table);
            overwritten = shipped.RemoveAll(record => ours.Contains(record.Key));
        }
        else if (policy == ShippedPolicy.Keep)
            resolved = OfFeeding(resolved, table, (map, target) => map with
            {
                RowsLeftOut = [.. map.RowsLeftOut, new RowsLeftOut(AnyOf([.. shipped.Select(record => SameKey(target, record))]),
                    $"the new program ships a record of {table.Name} with this key, which stays")]
            });
        else
        {
            offset = Highest(table, shipped);
            resolved = Renumbered(resolved, table, offset);
        }
        return resolved with
        {
            NewRecords = [.. resolved.NewRecords, .. shipped.Select(record => new NewRecord(table, record.Values, "shipped with the new "
                + "program"))]
        };
    }

    private void RequireAllKnown(TableShape table, long count)
    {
        if (count > MostShipped)
            throw new TransferraException($"the new program ships {count} records in {table.Name}; more than {MostShipped} cannot stay "
                + "beside ours", $"Say replace for it in {hop.File}, or leave our records out.");
        // What the vendor made of columns and records of its own is the vendor's matter where its import fills them; they are named as new.
        if (hop.IsByOthers && PolicyFor(table) == ShippedPolicy.Merge) return;
        if (table.Key.Count == 0)
            throw new TransferraException($"the table {table.Name} has no key by which shipped records and ours could be told apart",
                $"Say its key in the kit, or say replace for it in {hop.File}.");
        string[] unknown = [.. _there.First(known => RevisedTable.Same(known.Name, table.Name)).Columns
            .Where(column => table.OrdinalOf(column.Name) < 0).Select(column => column.Name)];
        if (unknown.Length > 0)
            throw new TransferraException($"the table {table.Name} of the new program also has {string.Join(", ", unknown)}, which the "
                + "kit does not know; what it ships there would be lost", $"Describe it in version {hop.To.Name}, or say replace for "
                + $"the table.");
    }

    private List<Shipped> Read(TableShape table)
    {
        var all = new List<Shipped>();
        foreach (RecordBatch batch in made.Batches(table, table.Key, cancel))
        {
            if (batch.Faults is [var fault, ..])
                throw new TransferraException($"a value that the new program ships in {table.Name}.{fault.Column} cannot be read: "
                    + fault.Reason, "Describe the column in the kit as it is.");
            var encoder = new RowEncoder(table, batch.Vectors);
            for (int row = 0; row < batch.RowCount; row++)
            {
                int at = row;
                Expression[] values = [.. table.Columns.Select((column, i) => Written(table, column, batch.Vectors[i], at))];
                all.Add(new Shipped(Convert.ToHexString(encoder.Key(row)), [.. table.Key.Select(key => values[table.OrdinalOf(key)])],
                    [.. table.Columns.Select((column, i) => new ColumnMap(column, values[i], null, null))]));
            }
        }
        return all;
    }

    private static Expression Written(TableShape table, ColumnShape column, Vector values, int row)
    {
        if (values.IsNull(row)) return new Literal(0, LiteralKind.Null, "");
        string text = values.Show(row);
        return column.Type.Kind switch
        {
            FieldKind.Integer or FieldKind.Decimal => ExpressionParser.Parse(text),
            FieldKind.Text => new Literal(0, LiteralKind.Text, text),
            FieldKind.Boolean => ExpressionParser.Parse(text.ToUpperInvariant()),
            FieldKind.Date => new Literal(0, LiteralKind.Date, text),
            FieldKind.Time or FieldKind.Timestamp => new Cast(0, new Literal(0, LiteralKind.Text, text), column.Type, null),
            _ => throw new TransferraException($"what the new program ships in {table.Name}.{column.Name} ({column.Type}) cannot stay "
                + "beside our records", "Say replace for the table, or leave our records out.")
        };
    }

    private HashSet<string> KeysOfOurs(TableShape table)
    {
        var keys = new HashSet<string>();
        foreach (TableMap map in hop.Tables.Where(map => map.Into.Any(target => target.Table.Name == table.Name)))
        {
            var lane = new TableTransform(map, LookupLoader.Load(old, map), settings);
            using KeyGroupedReader reader = TableTransform.Read(old, map);
            int[] rows = [];
            while (reader.Fill(lane.Source))
            {
                cancel.ThrowIfCancellationRequested();
                lane.Apply();
                if (rows.Length < lane.RowCount) rows = new int[lane.RowCount];
                int carried = lane.CarriedRows(rows);
                TableOutput output = lane.Outputs.First(output => output.Table.Name == table.Name);
                var encoder = new RowEncoder(output.Table, output.Vectors);
                for (int i = 0; i < carried; i++) keys.Add(Convert.ToHexString(encoder.Key(rows[i])));
            }
        }
        foreach (NewRecord record in hop.NewRecords.Where(record => record.Into.Name == table.Name))
            keys.Add(Convert.ToHexString(new RowEncoder(table, NewRecords.Evaluate(record, settings).Vectors).Key(0)));
        return keys;
    }

    private static Correspondence OfFeeding(Correspondence hop, TableShape table, Func<TableMap, TargetMap, TableMap> change) => hop with
    {
        Tables = [.. hop.Tables.Select(map => map.Into.FirstOrDefault(target => target.Table.Name == table.Name) is { } target
            ? change(map, target) : map)]
    };

    private Expression SameKey(TargetMap target, Shipped record)
    {
        Expression? all = null;
        foreach ((string key, Expression value) in target.Table.Key.Zip(record.KeyValues))
        {
            Expression ours = target.Columns.FirstOrDefault(column => RevisedTable.Same(column.Column.Name, key))?.Value
                ?? throw new TransferraException($"{hop.File} does not say what becomes of {target.Table.Name}.{key}, the key",
                    "Say it, or say replace for the table.");
            var same = new Binary(0, BinaryOperator.Equal, ours, value);
            all = all is null ? same : new Binary(0, BinaryOperator.And, all, same);
        }
        return all!;
    }

    // A tree and no chain, as thousands are no deeper than a dozen then.
    private static Expression AnyOf(ReadOnlySpan<Expression> any) => any.Length == 1 ? any[0]
        : new Binary(0, BinaryOperator.Or, AnyOf(any[..(any.Length / 2)]), AnyOf(any[(any.Length / 2)..]));

    private long Highest(TableShape table, List<Shipped> shipped)
    {
        if (table.Key is not [var key] || table.Columns[table.OrdinalOf(key)].Type.Kind != FieldKind.Integer)
            throw new TransferraException($"the records of {table.Name} cannot get other numbers: its key is not one whole number",
                $"Say keep, merge or replace for it in {hop.File}.");
        return shipped.Max(record => long.Parse(((ColumnMap)record.Values[table.OrdinalOf(key)]).Value switch
        {
            Literal number => number.Text,
            _ => "0" // below zero, which none of ours comes near
        }, CultureInfo.InvariantCulture));
    }

    // By what the kit says, or the vendor's store declares.
    private bool PointsTo(TableShape of, string column, string table) => of.Relations.Concat(_there
        .Where(known => RevisedTable.Same(known.Name, of.Name)).SelectMany(known => known.Relations))
        .Any(link => RevisedTable.Same(link.To, table) && link.Columns is [var from] && RevisedTable.Same(from, column));

    // Ours get numbers above theirs, and so does whatever the kit says points to them.
    private Correspondence Renumbered(Correspondence hop, TableShape table, long offset)
    {
        string key = table.Key[0];
        bool IsNumber(TableShape of, string column) => RevisedTable.Same(of.Name, table.Name) && RevisedTable.Same(column, key)
            || PointsTo(of, column, table.Name);
        return hop with
        {
            Tables = [.. hop.Tables.Select(map => map with
            {
                Into = [.. map.Into.Select(target => target with
                {
                    Columns = [.. target.Columns.Select(column => IsNumber(target.Table, column.Column.Name) ? column with
                    {
                        Value = new Binary(0, BinaryOperator.Add, column.Value, new Literal(0, LiteralKind.Number,
                            offset.ToString(CultureInfo.InvariantCulture)))
                    } : column)]
                })]
            })]
        };
    }
}
