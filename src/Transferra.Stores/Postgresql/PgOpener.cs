// PgOpener.cs: opens PostgreSQL databases.
using Transferra.Core.Records;
using Transferra.Stores.Servers;

namespace Transferra.Stores.Postgresql;

internal sealed class PgOpener : IEngineOpener
{
    public string Name => "postgresql";

    public IStore Open(StoreAddress address, string? textEncoding) => PgStore.Open(address, textEncoding);

    public IStoreBuilder Create(StoreAddress address, string? textEncoding, bool keysFirst) => PgStoreBuilder.Create(address, keysFirst);

    public IStoreBuilder Continue(StoreAddress address, IReadOnlyList<TableShape> tables, BuildMark mark, string? textEncoding,
        bool keysFirst) => PgStoreBuilder.Continue(address, tables, mark, keysFirst);

    public IStoreJudge JudgeOf(StoreAddress address, string? textEncoding) => new RuleJudge("PostgreSQL",
        new NameRules("PostgreSQL", 63, 0, 1600, DistinguishesCase: true).Complaints,
        (outputs, rows, rejects) => PgStoreBuilder.Takeable(outputs, rows, rejects));

    public IScriptRunner RunScripts(StoreAddress copy) => new PgScriptRunner(copy);

    public void Copy(StoreAddress from, StoreAddress to) => PgMender.Copy(from, to);

    public BuildMark Revise(StoreAddress copy, StoreRevision revision, string? textEncoding) => PgRevision.Run(copy, revision);

    public IStoreMender Mend(StoreAddress copy, string? textEncoding) => new PgMender(copy);

    public IStoreBuilder Rebuild(StoreAddress address, StoreScript script, string folder) => PgStoreBuilder.Rebuild(address, script);

    public IStoreServer ServerOf(ServerAddress server) => new PgServer(server);
}
