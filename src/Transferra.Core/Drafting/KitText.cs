// KitText.cs: writes a draft down as kit.yaml. What is sure is a line; what is not is a remark that begins with "#?" and does nothing.
// Holds: (1) a value from a store stands in it only as a code of columns that are not private, or as what tells the version.
using System.Globalization;
using System.Text;
using Transferra.Core.Machine;
using Transferra.Core.Records;

namespace Transferra.Core.Drafting;

/// <param name="head">Lines of remark at the top.</param>
/// <param name="id">The kit's name.</param>
/// <param name="title">Its title.</param>
/// <param name="old">The old version.</param>
/// <param name="renewed">The new one; null when there is only one.</param>
/// <param name="hop">What answers to what; null where only one store was there.</param>
/// <param name="means">Who converts, as a hop writes it; "" for our maps.</param>
internal sealed class KitText(IReadOnlyList<string> head, string id, string title, DraftedVersion old, DraftedVersion? renewed,
    DraftedHop? hop, string means)
{
    private readonly StringBuilder _text = new();

    /// <summary>What the new version's tables are like beside what follows from the hop, by table: further lines.</summary>
    public IReadOnlyDictionary<string, IReadOnlyList<string>> Differing { get; init; } =
        new Dictionary<string, IReadOnlyList<string>>();

    /// <summary>Remarks below the hop, one line each.</summary>
    public IReadOnlyList<string> Remarks { get; init; } = [];

    /// <summary>The text.</summary>
    public string Write()
    {
        foreach (string line in head) Line("# " + line);
        Line($"kit: {YamlText.Of(id)}");
        Line($"title: {YamlText.Of(title)}");
        DraftedSign[] common = renewed is null ? [] : [.. old.Signs.Where(sign => renewed.Signs.Any(other => other.Says == sign.Says
            && other.Is != sign.Is) && old.Version == sign.Is && renewed.Signs.First(other => other.Says == sign.Says).Is
            == renewed.Version)];
        // Of a new version that is not there yet, the old one's place is expected to tell it.
        bool isExpected = renewed is { Signs.Count: 0, Tables.Count: 0 };
        if (isExpected) common = [.. old.Signs.Where(sign => sign.Is == old.Version).Take(1)];
        if (common.Length > 0)
        {
            Line("told-by:");
            foreach (DraftedSign sign in common) Line($"  - {{{sign.Says}}}   # {(isExpected ? "? " : "")}{sign.Because}"
                + (isExpected ? $"; version {renewed!.Version} is expected to say so there" : ""));
        }
        Line("versions:");
        Version(old, renewed, common, isNew: false);
        if (renewed is not null) Version(renewed, old, common, isNew: true);
        if (renewed is not null) Hop();
        return _text.ToString();
    }

    private void Line(string line) => _text.Append(line.ReplaceLineEndings(" ").TrimEnd()).Append('\n');

    private void Version(DraftedVersion version, DraftedVersion? other, DraftedSign[] common, bool isNew)
    {
        Line($"  - version: {YamlText.Quoted(version.Version)}");
        if (common.Length == 0) Signs(version, other);
        if (TextPages.OfAll(version.TextEncoding) is { } encoding) Line($"    text-encoding: {encoding}");
        Line("    same-as: the-store");
        if (isNew && version.Engine == "sqlite" && version.Signs.FirstOrDefault(sign => sign.Says == "header: user_version") is { } header)
            Line($"    header-fields: {{user_version: {YamlText.Quoted(header.Is)}}}");
        DraftedTable[] tables = [.. version.Tables.Where(table => table.All.Any() || (isNew && Differing.ContainsKey(table.Table)))];
        if (tables.Length > 0) Line(tables.Any(table => HasSure(table, isNew)) ? "    tables:" : "    # tables:");
        foreach (DraftedTable table in tables) Table(table, isNew);
        Totals(version);
    }

    private void Signs(DraftedVersion version, DraftedVersion? other)
    {
        DraftedSign[] own = [.. version.Signs.Where(sign => other is null || !other.Signs.Any(same => same.Says == sign.Says
            && same.Is == sign.Is))];
        string[] has = [.. version.Tables.Select(table => table.Table)], lacks = [.. other?.Tables.Select(table => table.Table) ?? []];
        Line("    told-by:");
        foreach (DraftedSign sign in own) Line($"      - {{{sign.Says}, is: {YamlText.Quoted(sign.Is)}}}   # {sign.Because}");
        if (own.Length > 0) return;
        string[] only = [.. has.Except(lacks, StringComparer.OrdinalIgnoreCase).Take(2)],
            never = [.. lacks.Except(has, StringComparer.OrdinalIgnoreCase).Take(2)];
        if (only.Length + never.Length == 0) only = [.. has.Take(3)];
        string without = never.Length > 0 ? $", lacks: [{Listed(never)}]" : "";
        Line($"      - {{has: [{Listed(only)}]{without}}}   # ? nothing was found that says the version; look for what does");
    }

    private static string Listed(IEnumerable<string> names) => string.Join(", ", names.Select(YamlText.Of));

    private bool HasSure(DraftedTable table, bool isNew) => table.All.Except(table.Seen)
        .Any(line => line.IsSure) || (isNew && Differing.ContainsKey(table.Table));

    private void Table(DraftedTable table, bool isNew)
    {
        string mark = HasSure(table, isNew) ? "" : "# ";
        Line(string.Create(CultureInfo.InvariantCulture, $"      {mark}{YamlText.Of(table.Table)}:   # {table.Records} records"));
        if (isNew && Differing.TryGetValue(table.Table, out IReadOnlyList<string>? lines))
            foreach (string line in lines) Line("        " + line);
        foreach (DraftedLine key in table.Key) Line($"        {(key.IsSure ? "" : "#? ")}key: [{key.Says}]   # {key.Because}");
        List("private", table.Private);
        Map("codes", table.Codes);
        List("relations", table.Relations);
        List("series", table.Series);
        foreach (DraftedLine seen in table.Seen) Line($"        # {seen.Says}: {seen.Because}");
    }

    private void List(string key, IReadOnlyList<DraftedLine> lines)
    {
        if (lines.Any(line => line.IsSure)) Line($"        {key}:");
        foreach (DraftedLine line in lines.Where(line => line.IsSure)) Line($"          - {line.Says}   # {line.Because}");
        foreach (DraftedLine line in lines.Where(line => !line.IsSure)) Line($"        #? {key}: [{line.Says}]   # {line.Because}");
    }

    private void Map(string key, IReadOnlyList<DraftedLine> lines)
    {
        if (lines.Any(line => line.IsSure)) Line($"        {key}:");
        foreach (DraftedLine line in lines.Where(line => line.IsSure)) Line($"          {line.Says}   # {line.Because}");
        foreach (DraftedLine line in lines.Where(line => !line.IsSure)) Line($"        #? {key}: {{{line.Says}}}   # {line.Because}");
    }

    private void Totals(DraftedVersion version)
    {
        if (version.Totals.Count == 0) return;
        Line("    control-totals:");
        foreach (DraftedTotal total in version.Totals)
        {
            string by = total.By.Count > 0 ? $", by: [{Listed(total.By)}]" : "", sum = total.Sum.Length > 0
                ? $", sum: {YamlText.Quoted(total.Sum)}" : "", decimals = total.Decimals > 0
                ? string.Create(CultureInfo.InvariantCulture, $", decimals: {total.Decimals}") : "";
            Line($"      - {{name: {YamlText.Quoted(total.Name)}{decimals}, table: {YamlText.Of(total.Table)}{by}{sum}}}");
            if (TotalSql.Of(version.Engine, total) is { } sql) _text.Insert(_text.Length - 2, $",\n         sql: {{{version.Engine}: "
                + $"{YamlText.Quoted(sql)}}}");
        }
    }

    private void Hop()
    {
        Line("hops:");
        Line($"  - hop: {{from: {YamlText.Quoted(old.Version)}, to: {YamlText.Quoted(renewed!.Version)}}}");
        if (means.Length > 0) Line("    " + means);
        foreach (string remark in Remarks) Line("    # " + remark);
        if (hop is null)
        {
            // What the vendor's scripts do to the place that tells the version is known; the rest the match will ask about.
            if (old.Signs.FirstOrDefault(sign => sign.Is == old.Version) is { Becomes: { } becomes } told)
                Line($"    tables: [{{from: {YamlText.Of(told.Table)}, into: {{{YamlText.Of(told.Table)}: "
                    + $"{{{becomes(renewed!.Version)}}}}}}}]");
            return;
        }
        List<string> entries = new HopText(hop).Lines();
        bool hasEntries = entries.Exists(line => line.TrimStart().StartsWith("- ", StringComparison.Ordinal));
        if (hasEntries) Line("    tables:");
        foreach (string line in entries) Line(line);
        foreach (string table in hop.OnlyOld) Line($"    #? tables-left-out: {{{YamlText.Of(table)}: why}}   # nothing was found that "
            + "it becomes; unless it is left out, it is carried as it is");
        foreach (string table in hop.OnlyNew) Line($"    # {table} is new; nothing was found that goes into it");
    }
}
