// StoreGuest.cs: the one account that is let into a copy while all others are kept out, as a converter's is; with what was found before, by
// which everything is brought back.
namespace Transferra.Core.Records;

/// <summary>An account that is let into a store.</summary>
/// <param name="Store">Name of the store at its server, or its path.</param>
/// <param name="Account">Name of the account at the server, or of the user of this machine.</param>
/// <param name="Found">How everything was found that is changed for it, by name.</param>
public sealed record StoreGuest(string Store, string Account, IReadOnlyDictionary<string, string> Found)
{
    /// <summary>Other stores that the account can come into meanwhile, as its server cannot let it into one alone.</summary>
    public IReadOnlyList<string> AlsoInto { get; init; } = [];
}
