// KitOverStore.cs: a kit as it is for one store: what the kit leaves to the store is there.
using Transferra.Core.Conversion;
using Transferra.Core.Expressions;
using Transferra.Core.Kits;
using Transferra.Core.Machine;
using Transferra.Core.Records;
using Transferra.Core.Surveys;

namespace Transferra.Core.Runs;

/// <summary>Kits with what stores tell.</summary>
public static class KitOverStore
{
    /// <summary>The kit with the tables of a store, in the version that it tells and in those that our maps lead to from there; the kit as
    /// it is when its version is not told or it does not fit.</summary>
    public static Kit Of(Kit kit, IStore store)
    {
        if (Survey.SignsOf(kit, store).Select(sign => sign.Version).Distinct().ToArray() is not [{ } told]
            || kit.Version(told) is not { } version) return kit;
        try
        {
            CustomFields custom = CustomFields.Of(store, version);
            Way? longest = kit.Versions.Select(to => Way.Between(kit, told, to.Name)).OfType<Way>().MaxBy(way => way.Hops.Count);
            Way? over = longest is null ? null : custom.In(longest);
            return kit with
            {
                Versions = [.. kit.Versions.Select(known => known.Name == told ? custom.In(known)
                    : over?.Hops.FirstOrDefault(hop => hop.To.Name == known.Name)?.To ?? known)],
                Hops = [.. kit.Hops.Select(hop => over?.Hops.FirstOrDefault(known => known.From.Name == hop.From.Name
                    && known.To.Name == hop.To.Name) ?? hop)]
            };
        }
        catch (TransferraException) { return kit; }
    }

    /// <summary>Who converts in a hop, in words.</summary>
    public static string Converts(Hop hop) => hop.Means.Name switch
    {
        "maps" => "Transferra converts, by the kit's maps",
        "scripts" => "the vendor's scripts convert",
        "program" => "the vendor's program converts",
        "by-hand" => "a person converts, by hand",
        "export-import" => "the old program exports, the new one imports",
        var other => $"{other} converts"
    };

    /// <summary>What the new store of a hop starts as, in words.</summary>
    public static string Begins(Hop hop) => hop.Beginning.Name switch
    {
        "usual" when !hop.Correspondence.IsByOthers => "a copy of the old one where the engine stays, otherwise an empty one",
        "usual" or "copy" => "a copy of the old one",
        "vendor-made" => "the one that the new program made",
        "empty" => "an empty one",
        var other => other
    };

    /// <summary>What a new column gets, in words.</summary>
    public static string InWords(ColumnMap column)
    {
        string[] of = [.. column.Value.ColumnReferences.Select(reference => reference.Lookup is null ? reference.Name
            : $"{reference.Name} of {reference.Lookup}").Distinct()];
        string what = column.Value switch
        {
            ColumnReference { Lookup: null } => of[0],
            Cast { Operand: ColumnReference } cast => $"{of[0]}, as {cast.Type}{(cast.Format is null ? "" : $" from {cast.Format}")}",
            Literal { Kind: LiteralKind.Null } => "nothing",
            _ when of.Length == 0 => "the same for all",
            _ => $"made of {string.Join(", ", of)}"
        };
        return column.Changes is null ? what : $"{what}: {column.Changes}";
    }
}
