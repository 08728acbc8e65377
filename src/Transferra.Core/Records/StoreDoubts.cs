// StoreDoubts.cs: what to do about a store that contradicts itself.
using Transferra.Core.Machine;

namespace Transferra.Core.Records;

/// <summary>Refuses stores that do not add up.</summary>
public static class StoreDoubts
{
    /// <summary>What a person does about it.</summary>
    /// <param name="company">Code of the company.</param>
    public static string Next(string company) =>
        "Have the old program put its tables in order (pack, or rebuild the indexes), "
            + "or bring back the files from the office's own backup. "
        + $"What can be read of it is written out by: transferra check {company} --salvage PLACE";

    /// <summary>Refuses to take such a store for the whole of a company's records.</summary>
    /// <param name="store">The store.</param>
    /// <param name="company">Code of the company.</param>
    /// <exception cref="TransferraException">It contradicts itself.</exception>
    public static void Refuse(IStore store, string company)
    {
        if (store.Doubts is { Count: > 0 } doubts)
            throw new TransferraException($"the store of {company} does not add up: "
                + $"{doubts[0].What}{(doubts.Count == 1 ? "" : $"; and {doubts.Count - 1} more of that kind")}", Next(company));
    }
}
