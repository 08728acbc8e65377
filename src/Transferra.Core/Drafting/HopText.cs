// HopText.cs: the entries of a drafted hop: what differs, and what is asked.
using Transferra.Core.Expressions;
using Transferra.Core.Machine;

namespace Transferra.Core.Drafting;

internal sealed class HopText(DraftedHop hop)
{
    private readonly List<string> _lines = [];

    /// <summary>The lines below "tables:", with remarks among them.</summary>
    public List<string> Lines()
    {
        foreach (string old in hop.Pairs.Where(pair => pair.IsSure).Select(pair => pair.Old).Distinct())
            Entry(old, [.. hop.Pairs.Where(pair => pair.Old == old && pair.IsSure)]);
        foreach (DraftedPair pair in hop.Pairs.Where(pair => !pair.IsSure))
        {
            _lines.Add($"      #? - {{from: {YamlText.Of(pair.Old)}, into: {{{YamlText.Of(pair.New)}: {{{string.Join(", ", pair.Columns
                .Where(NeedsSaying).Select(column => $"{YamlText.Of(column.Column)}: {YamlText.Quoted(column.Value)}"))}}}}}}}   # "
                + pair.Because);
        }
        return _lines;
    }

    private static bool NeedsSaying(DraftedColumn column) => column.Changes.Length > 0 || column.Lookups.Count > 0
        || !(column.Value == SqlName.Of(column.Column) && column.Of.Count == 1 && column.Of[0] == column.Column);

    private void Entry(string old, DraftedPair[] pairs)
    {
        bool isSplit = pairs.Length > 1;
        string[] asked = [.. pairs.SelectMany(Questions).Distinct()];
        bool hasSaid = isSplit || old != pairs[0].New || pairs[0].Columns.Any(column => column.IsSure && NeedsSaying(column));
        if (hasSaid)
        {
            _lines.Add($"      - from: {YamlText.Of(old)}");
            (string Name, string Says)[] lookups = [.. pairs.SelectMany(pair => pair.Columns.Where(column => column.IsSure))
                .SelectMany(column => column.Lookups).DistinctBy(lookup => lookup.Name)];
            if (lookups.Length > 0) _lines.Add("        lookups:");
            foreach ((string name, string says) in lookups) _lines.Add($"          {name}: {says}");
            _lines.Add("        into:");
            for (int i = 0; i < pairs.Length; i++) Into(pairs[i], isMain: i == 0);
        }
        foreach (string question in asked) _lines.Add("        " + question);
    }

    private void Into(DraftedPair pair, bool isMain)
    {
        DraftedColumn[] said = [.. pair.Columns.Where(column => column.IsSure && (!isMain || NeedsSaying(column)))];
        _lines.Add($"          {YamlText.Of(pair.New)}:{(said.Length == 0 ? " {}" : "")}   # {pair.Because}");
        foreach (DraftedColumn column in said)
            _lines.Add($"            {YamlText.Of(column.Column)}: {ValueOf(column)}   # {column.Because}");
    }

    private static string ValueOf(DraftedColumn column) => column.Changes.Length == 0 ? YamlText.Of(column.Value)
        : $"{{is: {YamlText.Quoted(column.Value)}, changes: {column.Changes.Replace(';', ',')}, compared-with: "
            + $"{YamlText.Of(column.ComparedWith)}}}";

    private static IEnumerable<string> Questions(DraftedPair pair)
    {
        foreach (DraftedColumn column in pair.Columns.Where(column => !column.IsSure))
            yield return $"#? {pair.New}: {YamlText.Of(column.Column)}: {ValueOf(column)}   # {column.Because}";
        if (pair.Several > 0)
            yield return FormattableString.Invariant($"#? exact-copies: {{keep: first, because: why}}   # {pair.Several} records of ")
                + $"{pair.Old} have the key of another";
        foreach (string column in pair.OnlyNew)
            yield return $"#? {pair.New}: {YamlText.Of(column)}: ...   # new; nothing was found that it is made of";
        foreach (string column in pair.OnlyOld)
            yield return $"#? columns-left-out: {{{YamlText.Of(column)}: why}}   # nothing was found that it becomes";
    }
}
