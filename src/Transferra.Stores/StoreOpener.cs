// StoreOpener.cs: the one door to all engines.
using Transferra.Core.Records;
using Transferra.Stores.Sqlite;

namespace Transferra.Stores;

/// <summary>Opens and creates stores of every engine there is.</summary>
public sealed class StoreOpener : IStoreOpener
{
    /// <inheritdoc/>
    public IStore Open(StoreAddress address, string? textEncoding = null) => address.Engine switch
    {
        "sqlite" => SqliteStore.Open(address.Path, textEncoding),
        _ => throw Unknown(address),
    };

    /// <inheritdoc/>
    public IStoreBuilder Create(StoreAddress address) => address.Engine switch
    {
        "sqlite" => SqliteStoreBuilder.Create(address.Path),
        _ => throw Unknown(address),
    };

    /// <inheritdoc/>
    public IReadOnlyList<string> FilesOf(StoreAddress address) =>
        [address.Path, .. ((string[])["-journal", "-wal", "-shm"]).Select(suffix => address.Path + suffix).Where(File.Exists)];

    private static TransferraException Unknown(StoreAddress address) =>
        new($"there is no engine {address.Engine}", "Correct the store in office.yaml.");
}
