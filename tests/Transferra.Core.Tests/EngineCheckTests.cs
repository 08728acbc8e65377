using Transferra.Core.Checks;
using Transferra.Core.Kits;
using Transferra.Core.Machine;
using Transferra.Core.Records;
using Transferra.Tests;

namespace Transferra.Core.Tests;

/// <summary>The engine's own check beside the reading of the records.</summary>
public sealed class EngineCheckTests : IDisposable
{
    private readonly Correspondence _hop = SampleKit.LoadHop();
    private readonly TempFolder _folder = new();

    public void Dispose() => _folder.Dispose();

    /// <summary>A store that can be opened twice, whose engine takes its time and then complains, or not.</summary>
    private sealed class TwiceOpened(MemoryStore inner, string? complaint) : IStore
    {
        private readonly ManualResetEventSlim _isRead = new();

        /// <summary>What goes wrong when the first table is read; null for nothing.</summary>
        public Exception? Fails { get; init; }

        /// <summary>Whether the engine's check goes on until it is stopped.</summary>
        public bool IsEndless { get; init; }

        /// <summary>How the other one ended: what it was doing when it was closed.</summary>
        public string Ended { get; private set; } = "";

        public StoreIdentity Identity => inner.Identity;

        public IReadOnlyList<TableShape> ReadShape() => inner.ReadShape();

        public IReadOnlyList<StoreObject> ListObjects() => [];

        public long CountRows(string table) => inner.CountRows(table);

        public QueryAnswer Ask(string sql, TimeSpan? limit = null) => inner.Ask(sql, limit);

        public IRecordReader Read(TableShape table, IReadOnlyList<string> orderBy, KeyRange? within = null)
        {
            _isRead.Set();
            return Fails is null ? inner.Read(table, orderBy, within) : throw Fails;
        }

        public IReadOnlyList<string> CheckPhysically() => throw new InvalidOperationException("it is opened twice for that");

        public IStore? Again() => new Other(this);

        public void Dispose() { }

        private sealed class Other(TwiceOpened first) : IStore
        {
            private string _state = "idle";

            public StoreIdentity Identity => first.Identity;

            public IReadOnlyList<TableShape> ReadShape() => first.ReadShape();

            public IReadOnlyList<StoreObject> ListObjects() => [];

            public long CountRows(string table) => first.CountRows(table);

            public QueryAnswer Ask(string sql, TimeSpan? limit = null) => first.Ask(sql, limit);

            public IRecordReader Read(TableShape table, IReadOnlyList<string> orderBy, KeyRange? within = null) =>
                first.Read(table, orderBy, within);

            public IReadOnlyList<string> CheckPhysically() => CheckPhysicallyUntil(CancellationToken.None);

            public IReadOnlyList<string> CheckPhysicallyUntil(CancellationToken cancel)
            {
                _state = "checking";
                first._isRead.Wait(CancellationToken.None); // so that the reading is under way before this is over
                if (first.IsEndless) cancel.WaitHandle.WaitOne();
                _state = cancel.IsCancellationRequested ? "stopped" : "over";
                cancel.ThrowIfCancellationRequested();
                return first.Complaints;
            }

            public void Dispose() => first.Ended = _state;
        }

        private IReadOnlyList<string> Complaints => complaint is null ? [] : [complaint];
    }

    // With an orphan, of which a list is written.
    private MemoryStore Odd() => SampleKit.Store(_hop, [SampleKit.Part(1, "a", "4.00"), SampleKit.Part(2, "b", "6.00"),
        SampleKit.Part(3, "c", "10.00", group: 77)]);

    private CheckResult Check(IStore store) => CheckUntil(store, new ListObserver(), TestContext.Current.CancellationToken);

    private CheckResult CheckUntil(IStore store, IProgressObserver observer, CancellationToken cancel) =>
        new CompanyCheck(_hop.From, _hop, SampleKit.Settings, observer, cancel) { ListFolder = _folder.Path }.Run(store);

    [Fact]
    public void A_sound_store_gives_the_findings_of_its_records()
    {
        var store = new TwiceOpened(Odd(), null);
        Assert.Equal(FindingKinds.Orphan, Assert.Single(Check(store).Findings).Kind);
        Assert.Single(Directory.GetFiles(_folder.Path));
        Assert.Equal("over", store.Ended);
    }

    [Theory]
    [InlineData(false)]
    [InlineData(true)] // the records cannot be read because of it
    public void Of_a_damaged_store_only_the_damage_is_told_whatever_else_was_found(bool fails)
    {
        var store = new TwiceOpened(Odd(), "page 7 is torn") { Fails = fails ? new TransferraException("page 7", "") : null };
        CheckResult check = Check(store);
        Finding finding = Assert.Single(check.Findings);
        Assert.Equal((FindingKinds.Damaged, "page 7 is torn"), (finding.Kind, Assert.Single(finding.Examples)));
        Assert.Empty(Directory.GetFiles(_folder.Path)); // nor is a list of it left
        Assert.Equal(fails, check.Lost.Count > 0);
        Assert.Equal("over", store.Ended);
    }

    [Fact]
    public void What_the_engine_has_looked_through_is_not_looked_through_again()
    {
        var store = new TwiceOpened(Odd(), "page 7 is torn");
        CheckResult check = new CompanyCheck(_hop.From, _hop, SampleKit.Settings, new ListObserver(), TestContext.Current.CancellationToken)
        {
            IsKnownSound = true,
        }.Run(store);
        Assert.Equal(FindingKinds.Orphan, Assert.Single(check.Findings).Kind); // its records are looked at all the same
        Assert.Equal("", store.Ended);
    }

    [Fact]
    public void An_error_that_is_no_damage_is_told_as_it_is() => Assert.Equal("gone", Assert.Throws<TransferraException>(() =>
        Check(new TwiceOpened(Odd(), null) { Fails = new TransferraException("gone", "") })).Message);

    [Fact]
    public void When_the_check_is_interrupted_the_engines_is_stopped_and_over()
    {
        using var cancel = new CancellationTokenSource();
        var store = new TwiceOpened(Odd(), null) { IsEndless = true };
        Assert.ThrowsAny<OperationCanceledException>(() => CheckUntil(store, new CancelAtTable(cancel), cancel.Token));
        Assert.Equal("stopped", store.Ended);
    }

    private sealed class CancelAtTable(CancellationTokenSource cancel) : IProgressObserver
    {
        public void Progress(string table, long rows, long ofRows)
        {
            if (rows > 0) cancel.Cancel();
        }
    }
}
