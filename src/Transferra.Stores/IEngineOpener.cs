// IEngineOpener.cs: what an engine must be able to do; one class for each, in the engine's own folder, listed in StoreOpener.
using Transferra.Core.Machine;
using Transferra.Core.Records;

namespace Transferra.Stores;

/// <summary>Opens and creates the stores of one engine. What a method does is told at <see cref="IStoreOpener"/>.</summary>
public interface IEngineOpener
{
    /// <summary>The engine as office.yaml names it.</summary>
    string Name { get; }

    /// <summary>Opens a store for reading.</summary>
    IStore Open(StoreAddress address, string? textEncoding);

    /// <summary>Starts a new, empty store.</summary>
    IStoreBuilder Create(StoreAddress address, string? textEncoding, bool keysFirst);

    /// <summary>Goes on with a store that was begun.</summary>
    IStoreBuilder Continue(StoreAddress address, IReadOnlyList<TableShape> tables, BuildMark mark, string? textEncoding, bool keysFirst);

    /// <summary>What a new store would not take.</summary>
    IStoreJudge JudgeOf(StoreAddress address, string? textEncoding);

    /// <summary>Makes an exact copy of a store.</summary>
    void Copy(StoreAddress from, StoreAddress to);

    /// <summary>Makes a copy for <see cref="Revise"/>; as a whole where an engine gains nothing by less.</summary>
    void CopyToRevise(StoreAddress from, StoreAddress to, StoreRevision revision) => Copy(from, to);

    /// <summary>Makes a copy ready for the new version.</summary>
    BuildMark Revise(StoreAddress copy, StoreRevision revision, string? textEncoding);

    /// <summary>Opens a copy to put records right in it.</summary>
    IStoreMender Mend(StoreAddress copy, string? textEncoding) =>
        throw new TransferraException($"records in {copy.Engine} files are not mended here",
            "Correct them where they come from, and have the files written anew.");

    /// <summary>Makes a store again from its script; for engines whose stores have one.</summary>
    IStoreBuilder Rebuild(StoreAddress address, StoreScript script, string folder) =>
        throw new InvalidOperationException($"stores of {Name} have no script");

    /// <summary>Has scripts run in a copy.</summary>
    IScriptRunner RunScripts(StoreAddress copy) => throw new InvalidOperationException($"stores of {Name} run no SQL");

    /// <summary>Adds the rights that belong to the name of a store.</summary>
    IReadOnlyList<string> AddRights(StoreAddress address, StoreScript script) => [];

    /// <summary>The server that keeps a store; for engines that are servers.</summary>
    IStoreServer ServerOf(ServerAddress server) => throw new InvalidOperationException($"{Name} is not a server");
}
