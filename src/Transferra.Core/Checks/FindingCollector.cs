// FindingCollector.cs: gathers what the probes find: counts without limit, keeps the first examples, and writes every record to a list.
// Holds: (1) memory does not grow with the number of records found; (2) values of private columns reach neither examples nor lists.
using System.Globalization;
using Transferra.Core.Machine;
using Transferra.Core.Records;

namespace Transferra.Core.Checks;

/// <summary>What a group of findings is, before anything of it was found.</summary>
/// <param name="Kind">One of <see cref="FindingKinds"/>.</param>
/// <param name="Grade">What it does to the upgrade.</param>
/// <param name="Table">The table.</param>
/// <param name="Subject">What of it.</param>
/// <param name="What">One sentence without full stop.</param>
/// <param name="Next">What to do.</param>
internal sealed record FindingHead(string Kind, Grade Grade, string Table, string Subject, string What, string Next)
{
    /// <summary>Whether a declared rule puts it right on the way.</summary>
    public bool IsMendable { get; init; }

    /// <summary>The mend that puts it right; "" when none is allowed.</summary>
    public string Mend { get; init; } = "";
}

/// <summary>Gathers findings.</summary>
/// <param name="listFolder">An empty folder for the lists of all records; null when none are wanted.</param>
internal sealed class FindingCollector(string? listFolder) : IDisposable
{
    private const int MaxExamples = 5;

    private sealed class Group(FindingHead head)
    {
        public FindingHead Head { get; } = head;
        public long Count;
        public readonly List<string> Examples = [];
        public CsvFile? List;
    }

    private readonly Dictionary<(string Kind, string Table, string Subject), Group> _groups = [];
    private readonly List<Group> _order = [];

    /// <summary>Adds a finding of which there are no records to list.</summary>
    public void Add(FindingHead head, long count, IReadOnlyList<string> examples)
    {
        Group group = Of(head);
        group.Count += count;
        group.Examples.AddRange(examples.Take(MaxExamples - group.Examples.Count));
    }

    /// <summary>Adds a record, or a group of records.</summary>
    /// <param name="head">What it is.</param>
    /// <param name="record">Its key, as it may be shown.</param>
    /// <param name="value">The value that is to blame, as it may be shown; null when none is.</param>
    /// <param name="joined">How the two look as one example; null for record: "value".</param>
    /// <param name="count">How many it stands for.</param>
    public void Add(FindingHead head, string record, string? value = null, string? joined = null, long count = 1)
    {
        Group group = Of(head);
        group.Count += count;
        if (group.Examples.Count < MaxExamples)
        {
            string example = joined ?? (value is null ? record : $"{record}: {ValueText.Quote(value)}");
            if (!group.Examples.Contains(example)) group.Examples.Add(example);
        }
        if (listFolder is null) return;
        group.List ??= new CsvFile(Path.Combine(listFolder,
            string.Create(CultureInfo.InvariantCulture,
                $"{_order.IndexOf(group) + 1:00}-{head.Kind}{(head.Table.Length > 0 ? "-" + Safe(head.Table) : "")}.csv")),
            ["record", "value", "finding"]);
        group.List.Add([record, value ?? "", head.What]);
    }

    private static string Safe(string name) => string.Concat(name.Select(c => char.IsAsciiLetterOrDigit(c) || c is '_' ? c : '-'));

    private Group Of(FindingHead head)
    {
        var key = (head.Kind, head.Table, head.Subject);
        if (_groups.TryGetValue(key, out Group? group)) return group;
        _groups[key] = group = new Group(head);
        _order.Add(group);
        return group;
    }

    /// <summary>Whether something of a kind was found.</summary>
    public bool Has(Func<FindingHead, bool> which) => _order.Exists(group => which(group.Head));

    /// <summary>All findings, faults first; the lists are complete when it returns.</summary>
    public IReadOnlyList<Finding> All()
    {
        foreach (Group group in _order) group.List?.Dispose();
        return [.. _order.Where(group => group.Count > 0).OrderBy(group => group.Head.Grade)
            .Select(group => new Finding(group.Head.Kind, group.Head.Grade, group.Head.Table, group.Count, group.Head.What, group.Examples,
            group.Head.Next, group.Head.IsMendable || group.Head.Mend.Length > 0)
        {
            Subject = group.Head.Subject,
            Mend = group.Head.Mend,
            List = group.List?.Name ?? "",
        })];
    }

    /// <summary>Drops everything, with the lists.</summary>
    public void Forget()
    {
        foreach (Group group in _order.Where(group => group.List is not null))
        {
            group.List!.Dispose();
            File.Delete(Path.Combine(listFolder!, group.List.Name));
        }
        _groups.Clear();
        _order.Clear();
    }

    public void Dispose()
    {
        foreach (Group group in _order) group.List?.Dispose();
    }
}
