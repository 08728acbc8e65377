// JsonLinesOpener.cs: opens folders of JSON lines.
using Transferra.Core.Records;
using Transferra.Stores.Files;

namespace Transferra.Stores.JsonLines;

internal sealed class JsonLinesOpener : IEngineOpener
{
    public string Name => "json-lines";

    private readonly KnownOfFiles<JsonLinesScan> _scans = new();

    public IStore Open(StoreAddress address, string? textEncoding) => JsonLinesStore.Open(address.Path, _scans);

    public IStoreBuilder Create(StoreAddress address, string? textEncoding, bool keysFirst) => JsonLinesStoreBuilder.Create(address.Path);

    public IStoreBuilder Continue(StoreAddress address, IReadOnlyList<TableShape> tables, BuildMark mark, string? textEncoding,
        bool keysFirst) => JsonLinesStoreBuilder.Continue(address.Path, tables, mark);

    public IStoreJudge JudgeOf(StoreAddress address, string? textEncoding) => new RuleJudge("a table of JSON lines", _ => [],
        (outputs, rows, rejects) => Specials.Hold(outputs, rows, rejects, "JSON"), KeepsKeys: false);

    public void Copy(StoreAddress from, StoreAddress to) => StoreFiles.Copy(from.Path, to.Path);

    public BuildMark Revise(StoreAddress copy, StoreRevision revision, string? textEncoding) =>
        FolderRevision.Run(copy.Path, revision, JsonLinesTable.Ending);
}
