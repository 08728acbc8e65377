// AnswerLoader.cs: reads what a person answers for in office.yaml (answered-for). Format: docs/office.md.
using System.Globalization;
using Transferra.Core.Kits;
using Transferra.Core.Matching;

namespace Transferra.Core.Office;

internal static class AnswerLoader
{
    private static readonly Dictionary<string, UnexplainedKind> Kinds = new()
    {
        ["gone"] = UnexplainedKind.Gone,
        ["new"] = UnexplainedKind.New,
        ["changed"] = UnexplainedKind.Changed
    };

    /// <summary>Reads a company's.</summary>
    /// <param name="company">The company's mapping.</param>
    /// <param name="kit">Its kit; null while that has mistakes of its own.</param>
    /// <param name="errors">Takes the mistakes.</param>
    public static IReadOnlyList<Answer> Read(DescribedMap company, Kit? kit, DescriptionErrors errors)
    {
        var answers = new List<Answer>();
        foreach (DescribedMap map in company.Maps("answered-for", "what a person answers for"))
        {
            PlacedText to = map.Text("to"), by = map.Text("by"), because = map.Text("because"), records = map.Text("records");
            if (kit is not null && to.Value.Length > 0 && kit.Version(to.Value) is null) to.Report(errors,
                $"the kit {kit.Id} has no version {to}");
            if (map.Has("by") && IsBlank(by)) by.Report(errors, "write who answers for it here");
            if (map.Has("because") && IsBlank(because)) because.Report(errors, "write why it is meant here");
            if (!long.TryParse(records.Value, NumberStyles.None, CultureInfo.InvariantCulture, out long number) || number == 0)
                records.Report(errors, $"\"{records}\" is not a number of records; write how many are answered for at most");
            PlacedText? total = map.Optional("total"), column = map.Optional("column");
            if (total is not null)
                answers.Add(new Answer(to.Value, UnexplainedKind.Total, total.Value, "", number, by.Value, because.Value));
            else
            {
                PlacedText table = map.Text("table"), what = map.Text("what");
                if (!Kinds.TryGetValue(what.Value, out UnexplainedKind kind) && what.Value.Length > 0) what.Report(errors,
                    $"\"{what}\" is not a kind; the kinds are {string.Join(", ", Kinds.Keys)}");
                if (kind == UnexplainedKind.Changed && column is null && what.Value.Length > 0)
                    map.Report("what has changed is answered for column by column; name it with column");
                answers.Add(new Answer(to.Value, kind, table.Value, column?.Value ?? "", number, by.Value, because.Value));
            }
            map.Done();
        }
        return answers;
    }

    // As the line is given out, with dots where a person has to write.
    private static bool IsBlank(PlacedText text) => text.Value.Trim().Trim('.').Length == 0;
}
