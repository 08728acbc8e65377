// MariaOpener.cs: opens MariaDB databases.
using Transferra.Core.Records;
using Transferra.Stores.Servers;

namespace Transferra.Stores.Mariadb;

internal sealed class MariaOpener : IEngineOpener
{
    public string Name => "mariadb";

    public IStore Open(StoreAddress address, string? textEncoding) => MariaStore.Open(address);

    public IStoreBuilder Create(StoreAddress address, string? textEncoding, bool keysFirst) => MariaStoreBuilder.Create(address);

    public IStoreBuilder Continue(StoreAddress address, IReadOnlyList<TableShape> tables, BuildMark mark, string? textEncoding,
        bool keysFirst) => MariaStoreBuilder.Continue(address, tables, mark);

    public IStoreJudge JudgeOf(StoreAddress address, string? textEncoding) => new RuleJudge("MariaDB",
        new NameRules("MariaDB", 0, 64, 1017, DistinguishesCase: false).Complaints, MariaTypes.Judge);

    public IScriptRunner RunScripts(StoreAddress copy) => new MariaScriptRunner(copy);

    public void Copy(StoreAddress from, StoreAddress to) => MariaMender.Copy(from, to);

    public BuildMark Revise(StoreAddress copy, StoreRevision revision, string? textEncoding) => MariaRevision.Run(copy, revision);

    public IStoreMender Mend(StoreAddress copy, string? textEncoding) => new MariaMender(copy);

    public IStoreBuilder Rebuild(StoreAddress address, StoreScript script, string folder) => MariaStoreBuilder.Rebuild(address, script);

    public IReadOnlyList<string> AddRights(StoreAddress address, StoreScript script) => MariaStoreBuilder.AddRights(address, script);

    public IStoreServer ServerOf(ServerAddress server) => new MariaServer(server);
}
