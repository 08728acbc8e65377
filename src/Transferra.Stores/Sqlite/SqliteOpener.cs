// SqliteOpener.cs: opens SQLite files.
using Transferra.Core.Machine;
using Transferra.Core.Records;
using Transferra.Stores.Files;
using Transferra.Stores.Servers;

namespace Transferra.Stores.Sqlite;

internal sealed class SqliteOpener : IEngineOpener
{
    public const string Engine = "sqlite";

    public string Name => Engine;

    private readonly KnownOfFiles<long> _counts = new();

    public IStore Open(StoreAddress address, string? textEncoding) => SqliteStore.Open(address.Path, textEncoding, _counts);

    public IStoreBuilder Create(StoreAddress address, string? textEncoding, bool keysFirst) => textEncoding is null
        ? SqliteStoreBuilder.Create(address.Path)
        : throw NotInUtf8(textEncoding);

    private static TransferraException NotInUtf8(string textEncoding) =>
        new($"a new SQLite store keeps its text in UTF-8, and the kit wants {textEncoding}",
            "Take text-encoding out of the new version's file in the kit.");

    public IStoreBuilder Continue(StoreAddress address, IReadOnlyList<TableShape> tables, BuildMark mark, string? textEncoding,
        bool keysFirst) => SqliteStoreBuilder.Continue(address.Path, tables, mark);

    public IStoreJudge JudgeOf(StoreAddress address, string? textEncoding) => new RuleJudge("SQLite",
        new NameRules("SQLite", 0, 0, 2000, DistinguishesCase: false).Complaints,
        (outputs, rows, rejects) => SqliteStoreBuilder.Hold(outputs, rows, rejects), HoldsAnyKind: true);

    public IScriptRunner RunScripts(StoreAddress copy) => new SqliteScriptRunner(copy);

    public void Copy(StoreAddress from, StoreAddress to)
    {
        if (IsInUse(from.Path)) SqliteCopy.OfOneInUse(from.Path, to.Path);
        else StoreFiles.Copy(from.Path, to.Path);
    }

    public void CopyToRevise(StoreAddress from, StoreAddress to, StoreRevision revision)
    {
        if (!IsInUse(from.Path))
        {
            using SqliteStore store = SqliteStore.Open(from.Path, null, _counts);
            if (store.TryCopyThin(to.Path, revision)) return;
        }
        Copy(from, to);
    }

    public BuildMark Revise(StoreAddress copy, StoreRevision revision, string? textEncoding) =>
        textEncoding is null || revision.Tables.Count == 0 ? SqliteRevision.Run(copy.Path, revision) : throw NotInUtf8(textEncoding);

    // A SQLite file is whole by itself when nothing waits beside it and nobody has it open.
    private static bool IsInUse(string path) => new FileInfo(path + "-wal") is { Exists: true, Length: > 0 }
        || new FileInfo(path + "-journal") is { Exists: true, Length: > 0 }
        || OpenFiles.HoldersOf([path]).Count > 0;

    public IStoreMender Mend(StoreAddress copy, string? textEncoding) => new SqliteMender(copy.Path, textEncoding);
}
