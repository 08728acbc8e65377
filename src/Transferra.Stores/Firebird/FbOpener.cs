// FbOpener.cs: opens Firebird databases.
using Transferra.Core.Records;
using Transferra.Stores.Servers;

namespace Transferra.Stores.Firebird;

internal sealed class FbOpener : IEngineOpener
{
    public string Name => "firebird";

    public IStore Open(StoreAddress address, string? textEncoding) => FbStore.Open(address, textEncoding);

    public IStoreBuilder Create(StoreAddress address, string? textEncoding, bool keysFirst) => FbStoreBuilder.Create(address, keysFirst);

    public IStoreBuilder Continue(StoreAddress address, IReadOnlyList<TableShape> tables, BuildMark mark, string? textEncoding,
        bool keysFirst) => FbStoreBuilder.Continue(address, tables, mark, keysFirst, textEncoding);

    public IStoreJudge JudgeOf(StoreAddress address, string? textEncoding) => new RuleJudge("Firebird",
        new NameRules("Firebird", 31, 0, 1500, DistinguishesCase: true).Complaints, FbTypes.Judge, IgnoresTrailingBlanks: true);

    public IScriptRunner RunScripts(StoreAddress copy) => new FbScriptRunner(copy);

    public void Copy(StoreAddress from, StoreAddress to) => FbMender.Copy(from, to);

    public BuildMark Revise(StoreAddress copy, StoreRevision revision, string? textEncoding) => FbRevision.Run(copy, revision);

    public IStoreMender Mend(StoreAddress copy, string? textEncoding) => new FbMender(copy, textEncoding);

    public IStoreBuilder Rebuild(StoreAddress address, StoreScript script, string folder) =>
        FbStoreBuilder.Rebuild(address, script, folder);

    public IStoreServer ServerOf(ServerAddress server) => new FbServer(server);
}
