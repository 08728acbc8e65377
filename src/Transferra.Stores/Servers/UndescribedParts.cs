// UndescribedParts.cs: indexes and links of tables that no kit describes: they are made in a new store where its engine takes them.
// Holds: (1) one that the engine refuses stops nothing and is named.
using Transferra.Core.Records;

namespace Transferra.Stores.Servers;

/// <param name="tryRun">Runs a statement; null, or why the engine refused it, after which others can be run.</param>
/// <param name="remarks">Receives what was refused, one line each.</param>
internal sealed class UndescribedParts(Func<string, string?> tryRun, List<string> remarks)
{
    /// <summary>Makes an index, under another name where its own is taken.</summary>
    /// <param name="table">Its table.</param>
    /// <param name="index">The index.</param>
    /// <param name="statement">Makes it under a name; "" leaves the name to us.</param>
    public void Make(TableShape table, IndexShape index, Func<string, string> statement)
    {
        if (tryRun(statement(index.Name)) is not { } refused || tryRun(statement("")) is null) return;
        remarks.Add($"the index {index.Name} of {table.Name} ({string.Join(", ", index.Columns)}): {refused}");
    }

    /// <summary>Makes a link.</summary>
    /// <param name="table">The table that it is from.</param>
    /// <param name="link">The link.</param>
    /// <param name="statement">Makes it.</param>
    public void Make(TableShape table, RelationShape link, string statement)
    {
        if (tryRun(statement) is { } refused) remarks.Add(Words(table, link) + ": " + refused);
    }

    /// <summary>A link in words.</summary>
    public static string Words(TableShape table, RelationShape link) =>
        $"the link from {table.Name} ({string.Join(", ", link.Columns)}) to {link.To} ({string.Join(", ", link.On)})";
}
