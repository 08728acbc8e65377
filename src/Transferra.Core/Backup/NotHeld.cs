// NotHeld.cs: what a new store cannot hold of an export, counted by table and reason and told all at once.
using System.Globalization;
using Transferra.Core.Machine;
using Transferra.Core.Records;

namespace Transferra.Core.Backup;

/// <summary>Gathers it.</summary>
/// <param name="complaints">About the tables themselves.</param>
internal sealed class NotHeld(IReadOnlyList<string> complaints)
{
    private const int MostTold = 60;

    private readonly Dictionary<(string Table, string Reason), long> _records = [];

    /// <summary>Whether there is nothing.</summary>
    public bool IsEmpty => complaints.Count == 0 && _records.Count == 0;

    /// <summary>Adds a record.</summary>
    public void Add(string table, string reason) =>
        _records[(table, reason)] = _records.GetValueOrDefault((table, reason)) + 1;

    /// <summary>All of it.</summary>
    public TransferraException Told(StoreAddress into)
    {
        string[] lines = [.. complaints, .. _records.Select(entry => string.Create(CultureInfo.InvariantCulture,
            $"{entry.Value} record{(entry.Value == 1 ? "" : "s")} of {entry.Key.Table}: {entry.Key.Reason}"))];
        string more = lines.Length <= MostTold ? "" : string.Create(CultureInfo.InvariantCulture, $"; and {lines.Length - MostTold} more");
        return new TransferraException($"{into.Engine} cannot hold all of it: {string.Join("; ", lines.Take(MostTold))}{more}",
            "The set is sound and keeps it; restore it into a folder to look at it, or to a server of its own engine.");
    }
}
