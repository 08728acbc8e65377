// ExtensionTests.cs: a new engine and new means, made here, take part in everything without a change anywhere else but in the lists.
using Transferra.Core.Conversion;
using Transferra.Core.Kits;
using Transferra.Core.Matching;
using Transferra.Core.Means;
using Transferra.Core.Records;
using Transferra.Tests;

namespace Transferra.Stores.Tests;

public sealed class ExtensionTests : IDisposable
{
    private readonly TempFolder _folder = new();

    public void Dispose() => _folder.Dispose();

    private const string Old = """
        version: "1"
        told-by: [{table: ITEM, column: NAME, where: "NO = 1", is: a}]
        tables:
          ITEM: {columns: {NO: INTEGER NOT NULL, NAME: VARCHAR(20)}, key: [NO]}
        """;

    private const string Hop = """
        hop: {from: "1", to: "2"}
        tables:
          - {from: ITEM, into: {item: {no: NO, name: NAME}}}

        """;

    // An engine: its stores are in memory, by the name of their path.
    private sealed class MemoryOpener : IEngineOpener
    {
        public Dictionary<string, MemoryStore> Stores { get; } = [];

        public string Name => "memory";

        public IStore Open(StoreAddress address, string? textEncoding) => Stores[address.Path];

        public IStoreBuilder Create(StoreAddress address, string? textEncoding, bool keysFirst) =>
            Stores[address.Path] = new MemoryStore();

        public IStoreBuilder Continue(StoreAddress address, IReadOnlyList<TableShape> tables, BuildMark mark, string? textEncoding,
            bool keysFirst) => Stores[address.Path];

        public IStoreJudge JudgeOf(StoreAddress address, string? textEncoding) => new TakesAll();

        public void Copy(StoreAddress from, StoreAddress to)
        {
            MemoryStore copy = Stores[to.Path] = new MemoryStore();
            foreach ((TableShape shape, List<object?[]> rows) in Stores[from.Path].Tables.Values) copy.With(shape, [.. rows]);
        }

        public BuildMark Revise(StoreAddress copy, StoreRevision revision, string? textEncoding)
        {
            foreach (string table in revision.Removed.Concat(revision.Tables.Select(table => table.Was?.Name).OfType<string>()))
                Stores[copy.Path].Tables.Remove(table);
            return BuildMark.Start;
        }
    }

    // Means: somebody else's program, which loses the record with a certain number.
    private sealed class CarelessMeans(long loses) : IHopMeans
    {
        public string Name => "careless";

        IMeans IMeans.With(DescribedMap details) =>
            new CarelessMeans(long.Parse(details.Text("loses").Value, System.Globalization.CultureInfo.InvariantCulture));

        public ConversionResult Convert(HopWork work, BuildMark from)
        {
            using IStore source = work.OpenSource();
            using IStoreBuilder builder = work.Stores.Continue(work.Target, work.Hop.To.Tables, from);
            TableShape old = work.Hop.From.Tables[0], renewed = work.Hop.To.Tables[0];
            builder.CreateTable(renewed);
            foreach (RecordBatch batch in source.Batches(old, [], work.Cancel))
                builder.Write([new TableOutput(renewed, batch.Vectors)], [.. Enumerable.Range(0, batch.RowCount)
                    .Where(row => ((LongVector)batch.Vectors[0]).Values[row] != loses)], []);
            builder.Complete(work.Hop.To.HeaderFields);
            return new ConversionResult([], [], new Dictionary<string, long>());
        }
    }

    private sealed class Keeper : IHopKeeper
    {
        public void Waits(BuildMark mark) { }

        public BuildMark? Reached => null;

        public bool KeysFirst => false;

        public void StartOver(bool keysFirst) => throw new InvalidOperationException("nothing goes wrong here");

        public void Take(ExceptionRow exception) => throw new InvalidOperationException(exception.Key);

        public TableAccount? Known(int source, string table) => null;

        public void TableDone(int source, TableAccount account, Func<BuildMark> mark) { }

        public void Completing() { }
    }

    private Kit? Load(string hop, DescriptionErrors errors)
    {
        _folder.Write("kit.yaml", "kit: new\ntitle: New\nversions: [\"1\", \"2\"]\nhops: [1-to-2]\n");
        _folder.Write("versions/1.yaml", Old);
        _folder.Write("versions/2.yaml", Old.Replace("\"1\"", "\"2\"", StringComparison.Ordinal).Replace("ITEM", "item",
            StringComparison.Ordinal).Replace("NO", "no", StringComparison.Ordinal).Replace("NAME", "name", StringComparison.Ordinal)
            .Replace("no = 1", "no = 9", StringComparison.Ordinal).Replace("INTEGER noT NULL", "INTEGER NOT NULL",
                StringComparison.Ordinal));
        _folder.Write("hops/1-to-2.yaml", hop);
        return KitLoader.Load(_folder.Path, "kit", new HopKinds(KnownKinds.All.Beginnings,
            [.. KnownKinds.All.Means, new CarelessMeans(0)]), errors);
    }

    [Theory]
    [InlineData("", 0)]
    [InlineData("means: maps\n", 0)]
    [InlineData("beginning: empty\nmeans: {careless: {loses: 2}}\n", 1)]
    [InlineData("means: careless\n", 0)]
    public void A_new_engine_and_new_means_convert_and_are_proved_like_any_other(string said, long missing)
    {
        var errors = new DescriptionErrors();
        Kit kit = Load(Hop + said, errors)!;
        errors.ThrowIfAny();
        Hop hop = kit.Hops[0];
        var memory = new MemoryOpener();
        memory.Stores["old"] = new MemoryStore().With(hop.From.Tables[0], [1L, "a"], [2L, "b"], [3L, "c"]);
        var stores = new StoreOpener([.. StoreOpener.Engines, memory]);
        StoreAddress old = new("memory", "old"), renewed = new("memory", "new");
        new HopWork(hop, stores, old, () => stores.Open(old), renewed, new Dictionary<string, string>(), new Keeper(), new ListObserver(),
            CancellationToken.None).Run();
        using IStore before = stores.Open(old), after = stores.Open(renewed);
        MatchResult match = new CompanyMatch(hop.Correspondence, new Dictionary<string, string>(), new ListObserver(),
            CancellationToken.None).Run(before, after);
        Assert.Equal((missing == 0, missing, 3 - missing), (match.IsSame, match.DifferenceCount, match.Tables[0].Found));
    }

    [Theory]
    [InlineData("means: magic\n", "hops/1-to-2.yaml:4:8: \"magic\" is not known under \"means\"; it can be: maps, scripts, program, "
        + "service, by-hand, export-import, careless")]
    [InlineData("means: {maps: {}, careless: {}}\n", "hops/1-to-2.yaml:4:8: \"means\" names exactly one kind")]
    [InlineData("means: {careless: {loses: 1, more: 2}}\n", "more")]
    [InlineData("beginning: full\n", "\"full\" is not known under \"beginning\"; it can be: usual, copy, vendor-made, empty")]
    public void What_is_not_known_is_reported_with_its_place(string said, string told)
    {
        var errors = new DescriptionErrors();
        Load(Hop.TrimEnd() + "\n" + said, errors);
        DescriptionException thrown = Assert.Throws<DescriptionException>(errors.ThrowIfAny);
        Assert.Contains(told, string.Join('\n', thrown.Errors), StringComparison.Ordinal);
    }
}
