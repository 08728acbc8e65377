// WholeStore.cs: a store is changed over as a whole, so all that is in it has to be what is read, converted and compared.
// Why: a database whose other schemas nobody carries would be set aside with them, and the new one would lack them.
using Transferra.Core.Kits;
using Transferra.Core.Machine;
using Transferra.Core.Office;
using Transferra.Core.Records;

namespace Transferra.Core.Runs;

/// <summary>Refuses to change over a part.</summary>
public static class WholeStore
{
    /// <summary>Refuses when something in a store's database is not read.</summary>
    /// <param name="context">What it works with.</param>
    /// <param name="company">Whose store it is.</param>
    /// <param name="address">The store; fine when it is not there.</param>
    /// <param name="version">Its version.</param>
    /// <param name="isCopied">Whether what takes its place begins as a copy of all of it.</param>
    /// <param name="brought">Tables that what takes its place brings; null when they are all that are read.</param>
    /// <exception cref="TransferraException">Something would be left behind; it is named.</exception>
    public static void Require(RunContext context, Company company, StoreAddress address, KitVersion version, bool isCopied,
        IReadOnlyCollection<string>? brought = null)
    {
        if (isCopied || !address.IsOnServer || !context.Places.Exists(address)) return;
        using IStore store = context.Stores.Open(address, version.TextEncoding);
        string[] left = [.. store.NotRead(), .. store.Elsewhere().Where(schema => brought?.Any(table =>
            table.StartsWith(schema.Name + ".", StringComparison.Ordinal)) == false)
            .Select(schema => FormattableString.Invariant($"the schema {schema.Name} with {schema.Tables} tables"))];
        if (left.Length > 0)
            throw new TransferraException($"the database {address.Path} of {company.Code} also holds {string.Join(", ", left)}; a "
                + "change-over would leave that behind",
                "Nothing was changed. Give the company a database of its own, or take what else is in it to another one, "
                    + "before it is changed over.");
    }
}
