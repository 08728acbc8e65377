// HopByMaps.cs: what answers to what where our maps convert: what the hop says, and tables and columns of the same name where it says
// nothing. Where a version is as the store has it, it is made when the store is there, and the new version's tables with it.
// Holds: (1) every old table and column is carried, used or left out with a reason, or a mistake says that it is not; (2) every column of
// a new table that something goes into has a value; (3) what only the office's store has is carried as it is, under a name that is free.
using Transferra.Core.Expressions;
using Transferra.Core.Machine;
using Transferra.Core.Records;

namespace Transferra.Core.Kits;

/// <param name="words">What the hop says.</param>
/// <param name="kinds">The kinds there are.</param>
/// <param name="settings">Answers that formulas may use.</param>
internal sealed class HopByMaps(DescribedMap words, HopKinds kinds, IReadOnlyList<NewSetting> settings)
{
    /// <summary>What answers to what, now that the store is there.</summary>
    /// <param name="hop">As the kit has it.</param>
    /// <param name="from">The old version over its store.</param>
    /// <exception cref="TransferraException">The hop does not fit the store.</exception>
    public Correspondence Of(Correspondence hop, KitVersion from)
    {
        var errors = new DescriptionErrors();
        KitVersion to = hop.To;
        if (to.Words is { } said)
        {
            List<TableShape> derived = new DerivedTables(words.Again(new DescriptionErrors()), from, hop, settings).All();
            to = said.Over(to, derived, areAll: false, errors);
        }
        Correspondence answer = Of(hop, from, to, errors);
        return errors.Count == 0 ? answer with { Awaiting = null }
            : throw new TransferraException($"the hop does not fit the store: {string.Join("; ", errors.Since(0).Distinct())}",
                "Correct it, then do it again.");
    }

    /// <summary>What answers to what.</summary>
    /// <param name="hop">As far as it is known: versions, tables left out.</param>
    /// <param name="from">The old version.</param>
    /// <param name="to">The new version.</param>
    /// <param name="errors">Receives mistakes.</param>
    public Correspondence Of(Correspondence hop, KitVersion from, KitVersion to, DescriptionErrors errors)
    {
        DescribedMap map = words.Again(errors);
        var loader = new HopLoader(map, [from, to], kinds, settings);
        var filling = new Filling(hop, from, to, map);
        bool isUnreadable = false;
        foreach (DescribedMap entry in map.Maps("tables", "what becomes of an old table"))
        {
            int mistakes = errors.Count;
            TableMap? read = loader.ReadTable(entry, from, to);
            // Of a table that could not be read nothing more is told: what is unused in it is known once it can be read.
            isUnreadable |= read is null;
            filling.Add(entry, read, isRead: errors.Count == mistakes);
        }
        List<TableMap> maps = filling.Rest(isUnreadable);
        List<NewRecord> records = [.. map.Maps("new-records", "a record that is new").Select(record =>
            (Words: record, Read: loader.ReadNewRecord(record, filling.To))).Where(record => record.Read is not null)
            .Select(record => filling.Filled(record.Words, record.Read!))];
        return hop with { From = from, To = filling.To, Tables = maps, NewRecords = records, NotLinked = filling.NotLinked };
    }

    // Puts to what the hop says what goes without saying.
    private sealed class Filling(Correspondence hop, KitVersion from, KitVersion to, DescribedMap map)
    {
        private readonly List<TableMap> _maps = [];
        private readonly HashSet<string> _named = new(StringComparer.OrdinalIgnoreCase);

        public KitVersion To { get; private set; } = to;

        public List<string> NotLinked { get; } = [];

        public void Add(DescribedMap entry, TableMap? read, bool isRead)
        {
            if (read is null) return;
            if (!_named.Add(read.From.Name))
                map.Report("tables", $"the table {read.From.Name} of version {from.Name} is listed twice; each old table is accounted for "
                    + "once");
            if (read.Into.Count == 0 && To.Table(read.From.Name) is { } same) read = read with { Into = [new TargetMap(same, [])] };
            if (read.Into.Count == 0 && isRead)
                entry.Report($"the records of {read.From.Name} go nowhere: version {To.Name} has no table of this name; name the new table "
                    + $"that takes them under \"into\", or list {read.From.Name} under \"tables-left-out\" with the reason");
            else _maps.Add(isRead ? WithNames(entry, read) : read);
        }

        // Adds the columns that answer to each other by their names.
        private TableMap WithNames(DescribedMap entry, TableMap read)
        {
            HashSet<string> used = UsedIn(read);
            used.UnionWith(read.ColumnsLeftOut.Keys);
            var carried = new HashSet<string>(used, StringComparer.OrdinalIgnoreCase);
            var targets = new List<TargetMap>();
            foreach (TargetMap target in read.Into)
            {
                var columns = new List<ColumnMap>(target.Columns);
                foreach (ColumnShape old in read.From.Columns.Where(old => !read.ColumnsLeftOut.Keys.Any(left => Names.Same(left,
                    old.Name))))
                {
                    if (target.Table.OrdinalOf(old.Name) is not (>= 0 and int at)
                        || columns.Any(known => Names.Same(known.Column.Name, old.Name))) continue;
                    if (Carried(entry, read.From, old, target.Table.Columns[at], target.Table.Name) is { } column) columns.Add(column);
                    carried.Add(old.Name);
                }
                targets.Add(target with { Columns = columns });
            }
            foreach (ColumnShape left in read.From.Columns.Where(column => !carried.Contains(column.Name)))
            {
                if (read.Combining is null && IsOffices(read.From, left)) targets[0] = WithOffices(targets[0], left);
                else Unused(entry, read, left);
            }
            foreach (TargetMap target in targets)
                foreach (ColumnShape column in target.Table.Columns.Where(column => !target.Columns.Any(known =>
                    known.Column.Name == column.Name)))
                    entry.Report($"the new column {target.Table.Name}.{column.Name} gets no value; give it one, NULL if there is none");
            return read with
            {
                Into = [.. targets.Select(target => target with
                {
                    Columns = [.. target.Columns.OrderBy(column => target.Table.OrdinalOf(column.Column.Name))]
                })]
            };
        }

        private void Unused(DescribedMap entry, TableMap read, ColumnShape left) => entry.Report("from", read.Combining is null
            ? $"the column {read.From.Name}.{left.Name} is neither used nor left out; use it or list it under \"columns-left-out\" with "
                + "the reason"
            : $"the column {read.From.Name}.{left.Name} is neither used nor left out, and records that are combined keep no more than one "
                + "value of it; use it or list it under \"columns-left-out\" with the reason");

        private HashSet<string> UsedIn(TableMap read)
        {
            var used = new HashSet<string>(StringComparer.OrdinalIgnoreCase);
            foreach (Expression expression in read.Into.SelectMany(target => target.Columns).Select(column => column.Value)
                .Concat(read.Lookups.Select(lookup => lookup.Shape.Key)).Concat(read.RowsLeftOut.Select(rule => rule.Where)))
                used.UnionWith(expression.ColumnReferences.Where(column => column.Lookup is null).Select(column => column.Name));
            if (read.Combining is not null) used.UnionWith(read.From.Key);
            return used;
        }

        // Whether only the office's store has it: what the kit says of the old version does not name it.
        private bool IsOffices(TableShape table, ColumnShape column) => from.IsOfStore
            || hop.From.Table(table.Name) is not { } said || said.OrdinalOf(column.Name) < 0;

        private TargetMap WithOffices(TargetMap target, ColumnShape column)
        {
            ColumnShape carried = column with { Name = Names.Free(column.Name, name => target.Table.OrdinalOf(name) >= 0) };
            TableShape table = target.Table with { Columns = [.. target.Table.Columns, carried] };
            To = To with { Tables = [.. To.Tables.Select(known => known.Name == table.Name ? table : known)] };
            return new TargetMap(table, [.. target.Columns, new ColumnMap(carried, new ColumnReference(0, null, column.Name), null, null)]);
        }

        private ColumnMap? Carried(DescribedMap entry, TableShape table, ColumnShape old, ColumnShape column, string into)
        {
            var value = new ColumnReference(0, null, old.Name);
            try
            {
                new ExpressionCompiler(new ExpressionScope(table.Name, table.Columns, [], new Dictionary<string, string>()))
                    .CompileFor(value, column);
            }
            catch (ExpressionException error)
            {
                entry.Report($"the column {table.Name}.{old.Name} is not carried under its name into {into}: {error.Message}");
            }
            if (old.IsPrivate && !column.IsPrivate)
                entry.Report($"{into}.{column.Name} gets its value from the private column {old.Name}; list it under private in the new "
                    + "version too");
            return new ColumnMap(column, value, null, null);
        }

        // Tables of which the hop says nothing.
        public List<TableMap> Rest(bool isUnreadable)
        {
            foreach (string unknown in hop.TablesLeftOut.Keys.Where(name => from.Table(name) is null))
                map.Report("tables-left-out", $"there is no table {unknown} in version {from.Name}"
                    + Names.Meant(unknown, from.Tables.Select(known => known.Name)));
            foreach (string both in hop.TablesLeftOut.Keys.Where(_named.Contains))
                map.Report("tables-left-out", $"the table {both} of version {from.Name} is carried and left out; it can only be one of "
                    + "them");
            var behind = new Dictionary<string, string>(StringComparer.OrdinalIgnoreCase);
            foreach (TableShape table in from.Tables.Where(table => !_named.Contains(table.Name)
                && !hop.TablesLeftOut.Keys.Any(name => Names.Same(name, table.Name))))
            {
                if (To.Table(table.Name) is { } same && !_maps.Any(read => read.Into.Any(target => target.Table.Name == same.Name)))
                    _maps.Add(WithNames(map, new TableMap(table, [new TargetMap(same, [])], [], new Dictionary<string, string>(), [], null,
                        null)));
                else if (from.IsOfStore || hop.From.Table(table.Name) is null) behind[table.Name] = "";
                else if (!isUnreadable) map.Report("tables", $"the table {table.Name} of version {from.Name} is neither carried nor left "
                    + "out: version " + $"{To.Name} has no table of this name; list it under \"tables\" or \"tables-left-out\"");
            }
            AddOffices(behind);
            foreach (IGrouping<string, TargetMap> twice in _maps.SelectMany(table => table.Into).GroupBy(target => target.Table.Name)
                .Where(group => group.Count() > 1))
                map.Report("tables", $"the new table {twice.Key} is fed by several old tables; that is not possible in one hop yet");
            return _maps;
        }

        // Tables that only the office's store has, with their links among each other and to what is carried.
        private void AddOffices(Dictionary<string, string> behind)
        {
            foreach (string table in behind.Keys.ToArray())
                behind[table] = Names.Free(table, name => To.Table(name) is not null || behind.Values.Contains(name,
                    StringComparer.OrdinalIgnoreCase));
            foreach ((string name, string carriedAs) in behind)
            {
                TableShape table = from.Table(name)!;
                var links = new List<RelationShape>();
                foreach (RelationShape link in table.Relations.Where(link => !link.IsOnlySaid))
                {
                    if (behind.TryGetValue(link.To, out string? renamed)) links.Add(link with { To = renamed });
                    else if (DerivedTables.Followed(link, _maps.Where(read => Names.Same(read.From.Name, link.To))
                        .SelectMany(read => read.Into)) is { } followed) links.Add(followed);
                    else NotLinked.Add(DerivedTables.NotLinked(table, link));
                }
                TableShape carried = table with { Name = carriedAs, Relations = links };
                To = To with { Tables = [.. To.Tables, carried] };
                _maps.Add(new TableMap(table, [new TargetMap(carried, [.. carried.Columns.Select(column => new ColumnMap(column,
                    new ColumnReference(0, null, column.Name), null, null))])], [], new Dictionary<string, string>(), [], null, null));
            }
        }

        // Columns of a new record that are not named have nothing in them.
        public NewRecord Filled(DescribedMap said, NewRecord record)
        {
            TableShape into = To.Table(record.Into.Name)!;
            ColumnShape[] silent = [.. into.Columns.Where(column => !record.Columns.Any(known => known.Column.Name == column.Name))];
            foreach (ColumnShape column in silent.Where(column => column.Required))
                said.Report($"the new column {into.Name}.{column.Name} gets no value, and must have one");
            return record with
            {
                Into = into,
                Columns = [.. record.Columns.Concat(silent.Select(column => new ColumnMap(column, new Literal(0, LiteralKind.Null, ""),
                    null, null))).OrderBy(column => into.OrdinalOf(column.Column.Name))]
            };
        }
    }
}
