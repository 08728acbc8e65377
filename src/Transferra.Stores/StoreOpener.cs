// StoreOpener.cs: the one door to all engines, and the list of them. What each can do: IEngineOpener.cs and its class there.
using Transferra.Core.Machine;
using Transferra.Core.Records;
using Transferra.Stores.Dbf;
using Transferra.Stores.Delimited;
using Transferra.Stores.Firebird;
using Transferra.Stores.JsonLines;
using Transferra.Stores.Mariadb;
using Transferra.Stores.Postgresql;
using Transferra.Stores.Servers;
using Transferra.Stores.Sqlite;
using Transferra.Stores.Workbook;

namespace Transferra.Stores;

/// <summary>Opens and creates stores of every engine there is.</summary>
/// <param name="engines">The engines.</param>
public sealed class StoreOpener(IReadOnlyList<IEngineOpener> engines) : IStoreOpener
{
    /// <summary>The engines there are; their names are also in <see cref="StoreAddress.Engines"/>.</summary>
    public static readonly IReadOnlyList<IEngineOpener> Engines = [new SqliteOpener(), new DbfOpener(), new DelimitedOpener(),
        new JsonLinesOpener(), new WorkbookOpener(), new PgOpener(), new MariaOpener(), new FbOpener()];

    /// <summary>For all engines there are.</summary>
    public StoreOpener() : this(Engines) { }

    private IEngineOpener Of(StoreAddress address) => engines.FirstOrDefault(engine => engine.Name == address.Engine)
        ?? throw new TransferraException($"there is no engine {address.Engine}", "Correct the store in office.yaml.");

    /// <inheritdoc/>
    public IStore Open(StoreAddress address, string? textEncoding = null) => Of(address).Open(address, textEncoding);

    /// <inheritdoc/>
    public IStoreBuilder Create(StoreAddress address, string? textEncoding = null, bool keysFirst = false) =>
        Of(address).Create(address, textEncoding, keysFirst);

    /// <inheritdoc/>
    public IStoreBuilder Continue(StoreAddress address, IReadOnlyList<TableShape> tables, BuildMark mark, string? textEncoding = null,
        bool keysFirst = false) => Of(address).Continue(address, tables, mark, textEncoding, keysFirst);

    /// <inheritdoc/>
    public IStoreJudge JudgeOf(StoreAddress address, string? textEncoding = null) => Of(address).JudgeOf(address, textEncoding);

    /// <inheritdoc/>
    public IStoreBuilder Rebuild(StoreAddress address, StoreScript script, string folder) => Of(address).Rebuild(address, script, folder);

    /// <inheritdoc/>
    public IReadOnlyList<string> AddRights(StoreAddress address, StoreScript script) => Of(address).AddRights(address, script);

    /// <inheritdoc/>
    public IScriptRunner RunScripts(StoreAddress copy) => Of(copy).RunScripts(copy);

    /// <inheritdoc/>
    public void Copy(StoreAddress from, StoreAddress to) => Of(from).Copy(from, to);

    /// <inheritdoc/>
    public void CopyToRevise(StoreAddress from, StoreAddress to, StoreRevision revision) => Of(from).CopyToRevise(from, to, revision);

    /// <inheritdoc/>
    public BuildMark Revise(StoreAddress copy, StoreRevision revision, string? textEncoding = null) =>
        Of(copy).Revise(copy, revision, textEncoding);

    /// <inheritdoc/>
    public IStoreMender Mend(StoreAddress copy, string? textEncoding) => Of(copy).Mend(copy, textEncoding);

    /// <inheritdoc/>
    public IReadOnlyList<string> FilesOf(StoreAddress address) => address.IsOnServer ? [] : Directory.Exists(address.Path)
        ? [.. Directory.EnumerateFiles(address.Path).Order(StringComparer.Ordinal)]
        : [address.Path, .. address.EndingsKept.Select(ending => address.Path + ending).Where(File.Exists)];

    /// <inheritdoc/>
    public IStoreServer ServerOf(StoreAddress address) => Of(address).ServerOf(address.Server!);

    /// <inheritdoc/>
    public void LetGo() => KeptConnections.LetGo();
}
