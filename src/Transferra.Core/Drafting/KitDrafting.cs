// KitDrafting.cs: drafts a kit from a store, or from an old and a new one, and tries it on them before anybody else does.
// Holds: (1) what is written loads without a mistake and fits the stores it was drafted from; (2) the stores are only read.
using System.Globalization;
using Transferra.Core.Expressions;
using Transferra.Core.Kits;
using Transferra.Core.Machine;
using Transferra.Core.Records;

namespace Transferra.Core.Drafting;

/// <summary>A store to draft from.</summary>
/// <param name="Address">Where it is.</param>
/// <param name="Tables">What is known of its tables; none where it tells by itself.</param>
/// <param name="TextEncoding">Code page of its texts; null for UTF-8, and where it tells by itself.</param>
/// <param name="Shown">As a person reads it.</param>
public sealed record DraftSide(StoreAddress Address, IReadOnlyList<TableShape> Tables, string? TextEncoding, string Shown);

/// <summary>What is wanted of a draft.</summary>
/// <param name="Id">The kit's name.</param>
/// <param name="From">The old version's name; null to take what the store says.</param>
/// <param name="To">The new version's name; null to take what the store says.</param>
/// <param name="Scripts">The vendor's scripts that convert, by name below the kit's folder; none for our maps.</param>
/// <param name="Remarks">Remarks for the hop, one line each.</param>
public sealed record DraftWishes(string Id, string? From, string? To, IReadOnlyList<string> Scripts, IReadOnlyList<string> Remarks)
{
    /// <summary>Who converts, as a hop writes it; "" for our maps.</summary>
    internal string Means => Scripts.Count == 0 ? ""
        : $"means: {{scripts: {{files: [{string.Join(", ", Scripts.Select(YamlText.Quoted))}]}}}}";
}

/// <summary>A drafted kit.</summary>
/// <param name="Text">kit.yaml.</param>
/// <param name="Old">The old version.</param>
/// <param name="New">The new one; null when there is only one.</param>
/// <param name="Hop">What answers to what; null where only one store was there.</param>
/// <param name="NotRead">Tables that could not be looked at, one line each.</param>
public sealed record DraftedKit(string Text, DraftedVersion Old, DraftedVersion? New, DraftedHop? Hop, IReadOnlyList<string> NotRead)
{
    /// <summary>How many questions stand in it.</summary>
    public int Questions => Text.Split('\n').Count(line => line.Contains("#?", StringComparison.Ordinal)
        || line.Contains("# ?", StringComparison.Ordinal));
}

/// <summary>Drafts kits.</summary>
public static class KitDrafting
{
    /// <summary>Drafts one.</summary>
    /// <param name="stores">Opens them.</param>
    /// <param name="old">The old store.</param>
    /// <param name="renewed">The new one; null when there is only one.</param>
    /// <param name="wishes">What is wanted.</param>
    /// <param name="kinds">The kinds there are.</param>
    /// <param name="scratch">An empty folder to try the draft in.</param>
    /// <param name="observer">Hears the progress.</param>
    /// <param name="cancel">Stops.</param>
    public static DraftedKit Run(IStoreOpener stores, DraftSide old, DraftSide? renewed, DraftWishes wishes, HopKinds kinds, string scratch,
        IProgressObserver observer, CancellationToken cancel)
    {
        StoreProfile from = Look(old), to = renewed is null ? from : Look(renewed);
        DraftedVersion before = new VersionDraft(from).Of(wishes.From);
        before = before with { Totals = new TotalsDraft(from, before).All(), TextEncoding = old.TextEncoding };
        DraftedVersion? after = wishes.To is null ? null : new DraftedVersion(wishes.To, before.Engine, [], [], []);
        DraftedHop? hop = null;
        if (renewed is not null) (before, after, hop) = Between(from, to, before, wishes, cancel);
        string[] head = [.. Head(old, renewed, from, to)];
        var differing = new Dictionary<string, IReadOnlyList<string>>();
        if (after is not null && hop is not null && wishes.Means.Length == 0)
        {
            // What follows from the hop is known once it has been tried, and what the new store has beyond it cannot be said.
            DraftedVersion whole = after;
            after = after with { Tables = [], Totals = [] };
            Correspondence? known = Tried(Text(), scratch, kinds, from);
            differing = Differing(known, [.. to.Tables.Select(table => table.Shape)]);
            after = Within(whole, known, before, hop);
        }
        string text = Text();
        Tried(text, scratch, kinds, from);
        return new DraftedKit(text, before, after, hop, [.. from.NotRead, .. renewed is null ? [] : to.NotRead]);

        string Text() => new KitText(head, wishes.Id, wishes.Id, before, after, hop, wishes.Means)
        {
            Differing = differing,
            Remarks = wishes.Remarks
        }.Write();

        StoreProfile Look(DraftSide side)
        {
            using IStore store = stores.Open(side.Address, side.TextEncoding);
            return StoreProfile.Of(store, side.Address.Engine, side.Tables, observer, cancel);
        }
    }

    // Both versions and what lies between them, each with what the other tells of it.
    private static (DraftedVersion Before, DraftedVersion After, DraftedHop Hop) Between(StoreProfile from, StoreProfile to,
        DraftedVersion before, DraftWishes wishes, CancellationToken cancel)
    {
        DraftedVersion after = new VersionDraft(to).Of(wishes.To ?? (wishes.From is null ? null : wishes.From + "-new"));
        DraftedVersion[] both = [before, after];
        DraftedHop hop = new HopDraft(from, to, (table, column) => both.Any(version => version.IsPrivate(table, column)),
            VersionTables(from, before, to, after)).Of(cancel);
        if (after.Version == before.Version) after = after with { Version = before.Version + "-new" };
        bool isOurs = wishes.Means.Length == 0 && to.Engine == "sqlite";
        (DraftedTotal Before, DraftedTotal? After)[] totals =
        [
            .. before.Totals.Select(total => (total, TotalsDraft.After(total, hop, to, isOurs))).Where(pair => pair.Item2 is not null),
            .. new TotalsDraft(from, before).Computed(hop, to, isOurs)
        ];
        after = WithPrivate(after with { Totals = [.. totals.Select(pair => pair.After!)] }, before, hop);
        before = WithKeys(before with { Totals = [.. totals.Select(pair => pair.Before)] }, hop, from, to);
        // A link of the new version is declared in its store; one that the new program does not declare is asked about.
        return (before, after with
        {
            Tables = [.. after.Tables.Select(table => table with
            {
                Relations = [.. table.Relations.Select(line => line with { IsSure = false })]
            })]
        }, hop);
    }

    private static (TableProfile, TableProfile, string)? VersionTables(StoreProfile from, DraftedVersion before, StoreProfile to,
        DraftedVersion after)
    {
        DraftedSign? was = before.Signs.FirstOrDefault(sign => sign.Table.Length > 0),
            now = after.Signs.FirstOrDefault(sign => sign.Table.Length > 0);
        return was is not null && now is not null && from.Table(was.Table) is { } old && to.Table(now.Table) is { } renewed
            ? (old, renewed, now.Is) : null;
    }

    // Where the old store declares no key, and the new one makes its own of old columns as they are, they told the old records, too.
    private static DraftedVersion WithKeys(DraftedVersion before, DraftedHop hop, StoreProfile from, StoreProfile to) => before with
    {
        Tables = [.. before.Tables.Select(table =>
        {
            if (from.Table(table.Table) is not { Shape.Key.Count: 0 } || hop.Pairs.FirstOrDefault(pair => pair.IsSure
                && pair.Old == table.Table) is not { } pair || to.Table(pair.New) is not { Shape.Key.Count: > 0 } renewed) return table;
            DraftedColumn?[] key = [.. renewed.Shape.Key.Select(name => pair.Columns.FirstOrDefault(column => column.Column == name
                && column is { IsSure: true, Of.Count: 1, Changes.Length: 0, Lookups.Count: 0 }))];
            return key.Contains(null) ? table : table with
            {
                Key = [new DraftedLine(string.Join(", ", key.Select(column => YamlText.Of(column!.Of[0]))),
                    $"what {pair.New} has for its key")]
            };
        })]
    };

    // What was made of a private value is private, whatever it looks like now, and no list of its values is written down.
    private static DraftedVersion WithPrivate(DraftedVersion after, DraftedVersion before, DraftedHop hop) => after with
    {
        Tables = [.. after.Tables.Select(table =>
        {
            string[] made = [.. hop.Pairs.Where(pair => pair.New == table.Table).SelectMany(pair => pair.Columns.Where(column =>
                column.Of.Any(of => before.IsPrivate(pair.Old, of)))).Select(column => YamlText.Of(column.Column))];
            return table with
            {
                Private = [.. table.Private.Where(line => !made.Contains(line.Says)), .. made.Distinct().Select(column =>
                    new DraftedLine(column, "made of what is private"))],
                Codes = [.. table.Codes.Where(line => !made.Any(column => line.Says.StartsWith(column + ":", StringComparison.Ordinal)))]
            };
        })]
    };

    // What is said of columns that the new version has by what is known of it. That which follows from the hop is not said again: whose
    // affair a column is, and the codes and series of one that is carried as it is.
    private static DraftedVersion Within(DraftedVersion version, Correspondence? known, DraftedVersion before, DraftedHop hop)
    {
        return version with
        {
            Tables = [.. version.Tables.Where(table => known?.To.Table(table.Table) is not null).Select(table =>
            {
                TableShape shape = known!.To.Table(table.Table)!;
                string[] said = [.. SaidBefore(table.Table)];
                bool IsNew(DraftedLine line) => ColumnOf(line) is { } column && !said.Contains(column);
                return table with
                {
                    Key = [],
                    Private = [.. table.Private.Where(line => ColumnOf(line) is { } name
                        && !shape.Columns[shape.OrdinalOf(name)].IsPrivate)],
                    Codes = [.. table.Codes.Where(IsNew)],
                    Relations = [.. table.Relations.Where(line => ColumnOf(line) is not null)],
                    Series = [.. table.Series.Where(IsNew)],
                };

                string? ColumnOf(DraftedLine line)
                {
                    string[] words = line.Says.Split([':', ',', '[', ']', '{', '}', ' '], StringSplitOptions.RemoveEmptyEntries);
                    return shape.Columns.FirstOrDefault(column => words.Contains(YamlText.Of(column.Name)))?.Name;
                }
            })]
        };

        // Columns that are old ones as they are, of which the old version says the same.
        IEnumerable<string> SaidBefore(string table) => hop.Pairs.Where(pair => pair.New == table).SelectMany(pair => pair.Columns
            .Where(column => column is { IsSure: true, Of.Count: 1 } && column.Value == SqlName.Of(column.Of[0])
                && before.Tables.FirstOrDefault(old => old.Table == pair.Old) is { } old && (old.Codes.Concat(old.Series).Any(line =>
                    line.Says.StartsWith(YamlText.Of(column.Of[0]) + ":", StringComparison.Ordinal)
                    || line.Says.Contains("number: " + SqlName.Of(column.Of[0]), StringComparison.Ordinal)))).Select(column =>
                        column.Column));
    }

    private static IEnumerable<string> Head(DraftSide old, DraftSide? renewed, StoreProfile from, StoreProfile to)
    {
        yield return $"Drafted by Transferra, {DateTime.UtcNow.ToString("yyyy-MM-dd", CultureInfo.InvariantCulture)}, from {old.Shown}"
            + (renewed is null ? "" : $" and {renewed.Shown}");
        yield return "A line that begins with \"#?\" is a question: it does nothing. Where it is right, take \"#?\" away; then: "
            + "transferra kit check";
        yield return "What nothing is said of is as the store has it. Format: docs/kits.md";
        foreach (TableProfile table in from.Tables.Where(table => table.Unreadable > 0))
            yield return string.Create(CultureInfo.InvariantCulture, $"{table.Name}: {table.Unreadable} values could not be read; is the "
                + $"text of another code page? --encoding of kit draft says which");
        foreach (TableProfile table in from.Tables.Concat(from == to ? [] : to.Tables).Where(table => table.Read < table.Rows))
            yield return string.Create(CultureInfo.InvariantCulture, $"{table.Name}: only {table.Read} of its {table.Rows} records were "
                + $"looked at");
    }

    // The drafted kit as any other, over the store it was drafted from.
    private static Correspondence? Tried(string text, string scratch, HopKinds kinds, StoreProfile from)
    {
        string folder = Path.Combine(scratch, "kit");
        Directory.CreateDirectory(folder);
        File.WriteAllText(Path.Combine(folder, "kit.yaml"), text);
        var errors = new DescriptionErrors();
        Kit? kit = KitLoader.Load(folder, "draft", kinds, errors);
        if (errors.Count > 0)
            throw new TransferraException($"the draft has a mistake, which is one of Transferra's: {errors.Since(0)[0]}",
                "Please report it.");
        KitVersion over = kit!.Versions[0].Over([.. from.Tables.Select(table => table.Shape with
        {
            IsUndescribed = true,
            Columns = [.. table.Shape.Columns.Select(column => column with
            {
                IsPrivate = kit.Versions[0].IsPrivate(table.Name, column.Name)
            })]
        })]);
        return kit.Hops.Count == 0 || kit.Hops[0].Correspondence.Awaiting is not { } awaiting ? null
            : awaiting.Of(kit.Hops[0].Correspondence, over);
    }

    // What the new store declares otherwise than what follows from the hop.
    private static Dictionary<string, IReadOnlyList<string>> Differing(Correspondence? hop, IReadOnlyList<TableShape> real)
    {
        var differing = new Dictionary<string, IReadOnlyList<string>>();
        foreach (TableShape derived in hop?.To.Tables ?? [])
        {
            if (real.FirstOrDefault(table => Names.Same(table.Name, derived.Name)) is not { } there) continue;
            string[] columns = [.. derived.Columns.Select(column => (Derived: column, There: there.OrdinalOf(column.Name) is >= 0 and int at
                ? there.Columns[at] : null)).Where(pair => pair.There is not null && (pair.There.Type != pair.Derived.Type
                || pair.There.Required && !pair.Derived.Required)).Select(pair => $"{YamlText.Of(pair.There!.Name)}: "
                + YamlText.Quoted($"{pair.There.Type}{(pair.There.Required ? " NOT NULL" : "")}"))];
            var lines = new List<string>();
            if (columns.Length > 0) lines.Add($"columns: {{{string.Join(", ", columns)}}}");
            if (there.Key.Count > 0 && !there.Key.SequenceEqual(derived.Key, StringComparer.OrdinalIgnoreCase)
                && there.Key.All(column => derived.OrdinalOf(column) >= 0))
                lines.Add($"key: [{string.Join(", ", there.Key.Select(YamlText.Of))}]");
            if (lines.Count > 0) differing[there.Name] = lines;
        }
        return differing;
    }
}
