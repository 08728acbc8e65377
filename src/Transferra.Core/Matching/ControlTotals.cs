// ControlTotals.cs: sums and counts that bookkeepers would compare, asked of two stores and laid side by side.
using System.Globalization;
using System.Text.RegularExpressions;
using Transferra.Core.Kits;
using Transferra.Core.Machine;
using Transferra.Core.Records;

namespace Transferra.Core.Matching;

internal static partial class ControlTotals
{
    /// <summary>Asks both stores for every total that both versions have.</summary>
    /// <param name="old">The old store.</param>
    /// <param name="from">Its version.</param>
    /// <param name="renewed">The new store.</param>
    /// <param name="to">Its version.</param>
    /// <param name="answers">What the office has answered.</param>
    /// <param name="cancel">Stops.</param>
    /// <param name="isWanted">Which totals, by name; null for all.</param>
    public static IReadOnlyList<TotalMatch> Compare(IStore old, KitVersion from, IStore renewed, KitVersion to,
        IReadOnlyDictionary<string, string> answers, CancellationToken cancel,
        Func<string, bool>? isWanted = null)
    {
        var totals = new List<TotalMatch>();
        foreach (ControlTotal before in from.ControlTotals)
        {
            ControlTotal? after = to.ControlTotals.FirstOrDefault(total => total.Name == before.Name);
            if (after is null || isWanted?.Invoke(before.Name) == false) continue;
            Dictionary<string, string> a = Ask(old, before, answers, cancel), b = Ask(renewed, after, answers,
                cancel);
            totals.Add(new TotalMatch(before.Name, HasSql(old, before) && HasSql(renewed, after),
                [.. a.Keys.Union(b.Keys).OrderBy(InOrder, StringComparer.Ordinal)
                .Select(label => new TotalLine(label, a.GetValueOrDefault(label), b.GetValueOrDefault(label)))])
            { FromVersion = from.Name, ToVersion = to.Name });
        }
        return totals;
    }

    // Period 9 comes before period 10.
    private static string InOrder(string label) => Digits().Replace(label, digits => digits.Value.PadLeft(LongestNumber, '0'));

    private const int LongestNumber = 20;

    [GeneratedRegex("[0-9]+")]
    private static partial Regex Digits();

    private static bool HasSql(IStore store, ControlTotal total) => total.SqlByEngine.ContainsKey(store.Identity.Engine.ToLowerInvariant());

    private static Dictionary<string, string> Ask(IStore store, ControlTotal total, IReadOnlyDictionary<string, string> answers,
        CancellationToken cancel)
    {
        string? sql = total.SqlByEngine.GetValueOrDefault(store.Identity.Engine.ToLowerInvariant());
        if (sql is null && total.Sum is not null) NewSetting.Require(total.Sum.Answers, answers, $"the control total \"{total.Name}\"");
        if (sql is null && total.Sum is not null)
            return GroupSums.Of(store, total.Sum, answers, cancel).ToDictionary(line => line.Key, line => DecimalText.Format(line.Value,
                total.Scale));
        if (sql is null)
            throw new TransferraException($"the control total \"{total.Name}\" has no query for {store.Identity.Engine}",
                "Add it under sql in the kit's version file; for stores that answer no SQL, give table, by and sum.");
        var lines = new Dictionary<string, string>();
        foreach (IReadOnlyList<string?> row in store.Ask(KitQuestion.Answered(sql, answers)).Rows)
        {
            string label = string.Join(" / ", row.Take(row.Count - 1).Select(cell => cell ?? TotalLine.NoLabel));
            string value = row[^1] ?? "0";
            // A total adds up whole units (pence, cents), so that the engine's sum is exact. Anything else got in behind our back, or the
            // query is wrong; either way it agrees with nothing.
            string shown = Int128.TryParse(value, NumberStyles.AllowLeadingSign, CultureInfo.InvariantCulture, out Int128 units)
                ? DecimalText.Format(units, total.Scale) : $"{ValueText.Quote(value)} {TotalLine.NoWholeNumber}";
            if (!lines.TryAdd(label, shown))
                throw new TransferraException($"the control total \"{total.Name}\" gave the line {ValueText.Quote(label)} twice",
                    "Group the query by its label columns.");
        }
        return lines;
    }
}
