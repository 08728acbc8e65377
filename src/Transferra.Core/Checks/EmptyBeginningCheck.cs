// EmptyBeginningCheck.cs: what a store declares beside its records that a new one, which begins empty, will not have, and what
// becomes of it.
using Transferra.Core.Kits;
using Transferra.Core.Records;

namespace Transferra.Core.Checks;

/// <param name="store">The old store.</param>
/// <param name="real">Its tables.</param>
/// <param name="version">Its version as the kit has it.</param>
internal sealed class EmptyBeginningCheck(IStore store, IReadOnlyList<TableShape> real, KitVersion version)
{
    // Kinds that a new store gets by what is said of its tables, or that only mean something in the old one.
    private static readonly string[] Made = ["table", "column", "primary key", "numbered key", "auto increment", "identity", "not null",
        "counter", "file setting", "owner", "access list", "right", "database right", "database setting", "default right", "schema",
        "extension", "sequence owner", "trigger state", "large object", "collation", "foreign key"];

    private static readonly string[] Programs = ["view", "materialized view", "trigger", "function", "procedure", "package", "event",
        "rule", "policy"];

    /// <summary>One finding for each kind, with each of them by name. What belongs to a table that the kit describes is the new version's
    /// own matter, but for programs.</summary>
    /// <param name="way">What answers to what, hop by hop; the first begins so.</param>
    /// <param name="findings">Where they go.</param>
    public void Run(IReadOnlyList<Correspondence> way, FindingCollector findings)
    {
        foreach (IGrouping<string, StoreDeclaration> kind in store.Declarations().Where(IsLeft).GroupBy(thing => thing.Kind)
            .OrderBy(kind => kind.Key, StringComparer.Ordinal))
        {
            bool isWorkedOut = kind.Key is "generated column" or "computed column";
            findings.Add(new FindingHead(FindingKinds.DeclarationLeft, Grade.Note, "", kind.Key,
                isWorkedOut ? $"the new store begins empty: each {kind.Key} is a plain one there and keeps the values it has"
                    : $"the new store begins empty and will not have what the old one declares as {kind.Key}",
                isWorkedOut ? "Nothing, when nothing is to be worked out anew; otherwise have the vendor declare it there."
                    : "Nothing, when the new version brings its own or needs none."), kind.Count(), [.. kind.Select(thing => thing.Name)]);
        }
        string[] notLinked = [.. way.SelectMany(hop => hop.NotLinked)];
        if (notLinked.Length > 0)
            findings.Add(new FindingHead(FindingKinds.DeclarationLeft, Grade.Note, "", "foreign key",
                "the new store begins empty and will not have links to what the new version has no more",
                "Nothing, when the new version brings its own or needs none."), notLinked.Length, notLinked);
    }

    private bool IsLeft(StoreDeclaration thing)
    {
        if (Made.Contains(thing.Kind)) return false;
        if (Programs.Contains(thing.Kind)) return true;
        string of = thing.Of.Replace("\"", "", StringComparison.Ordinal);
        TableShape? table = real.FirstOrDefault(known => RevisedTable.Same(known.Name, of))
            ?? real.FirstOrDefault(known => of.EndsWith("." + known.Name, StringComparison.OrdinalIgnoreCase));
        if (table is null) return version.Table(LastPart(of)) is null;
        if (version.Table(table.Name) is not null) return false;
        string name = LastPart(thing.Name);
        return thing.Kind switch
        {
            "index" => !table.Indexes.Any(index => !index.IsSpecial && RevisedTable.Same(index.Name, name)),
            "unique" => table.Indexes.Any(index => index.IsSpecial && RevisedTable.Same(index.Name, name)),
            "default" => table.OrdinalOf(name) is not (>= 0 and int at)
                || !RevisedTable.Same(name, table.NumberedColumn ?? "")
                    && PortableDefault.Of(table.Columns[at].Default, table.Columns[at].Type) is null,
            _ => true,
        };
    }

    private static string LastPart(string name) => name[(name.LastIndexOf('.') + 1)..].Trim('"');
}
