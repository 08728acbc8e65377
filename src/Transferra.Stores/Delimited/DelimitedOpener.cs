// DelimitedOpener.cs: opens folders of delimited text.
using Transferra.Core.Records;
using Transferra.Stores.Files;

namespace Transferra.Stores.Delimited;

internal sealed class DelimitedOpener : IEngineOpener
{
    public string Name => "delimited";

    private readonly KnownOfFiles<long> _counts = new();

    public IStore Open(StoreAddress address, string? textEncoding) => DelimitedStore.Open(address, textEncoding, _counts);

    public IStoreBuilder Create(StoreAddress address, string? textEncoding, bool keysFirst) =>
        DelimitedStoreBuilder.Create(address, textEncoding);

    public IStoreBuilder Continue(StoreAddress address, IReadOnlyList<TableShape> tables, BuildMark mark, string? textEncoding,
        bool keysFirst) => DelimitedStoreBuilder.Continue(address, tables, mark, textEncoding);

    public IStoreJudge JudgeOf(StoreAddress address, string? textEncoding) =>
        new RuleJudge("delimited text", _ => [], DelimitedStoreBuilder.Judge(address, textEncoding), KeepsKeys: false);

    public void Copy(StoreAddress from, StoreAddress to) => StoreFiles.Copy(from.Path, to.Path);

    public BuildMark Revise(StoreAddress copy, StoreRevision revision, string? textEncoding) =>
        FolderRevision.Run(copy.Path, revision, DelimitedStore.Endings);
}
