// WorkbookOpener.cs: opens workbooks; no new store is written as one.
using Transferra.Core.Machine;
using Transferra.Core.Records;
using Transferra.Stores.Files;

namespace Transferra.Stores.Workbook;

internal sealed class WorkbookOpener : IEngineOpener
{
    public string Name => "workbook";

    private const string ReadOnly = "a workbook can be read, but no new store is written as one";

    public IStore Open(StoreAddress address, string? textEncoding) => WorkbookStore.Open(address.Path);

    public IStoreBuilder Create(StoreAddress address, string? textEncoding, bool keysFirst) =>
        throw new TransferraException(ReadOnly, "Name another engine under new-store in office.yaml.");

    public IStoreBuilder Continue(StoreAddress address, IReadOnlyList<TableShape> tables, BuildMark mark, string? textEncoding,
        bool keysFirst) => Create(address, textEncoding, keysFirst);

    public IStoreJudge JudgeOf(StoreAddress address, string? textEncoding) =>
        new RuleJudge("a workbook", _ => [ReadOnly], (_, _, _) => { }, KeepsKeys: false);

    public void Copy(StoreAddress from, StoreAddress to) => StoreFiles.Copy(from.Path, to.Path);

    public BuildMark Revise(StoreAddress copy, StoreRevision revision, string? textEncoding) => revision.Tables.Count == 0 ? BuildMark.Start
        : throw new TransferraException(ReadOnly, "Name another engine under new-store in office.yaml.");
}
