using System.Reflection;
using Transferra.Core.Machine;
using Transferra.Core.Office;
using Transferra.Core.Records;
using Transferra.Stores;
using Transferra.Tests;

namespace Transferra.Cli.Tests;

/// <summary>Two programs do not work on one database of a server, and the next command after one has ended is not refused.</summary>
public sealed class StoreLocksTests : IDisposable
{
    private readonly OddOffice _office = new();
    private readonly TestServers _servers = new();

    public void Dispose()
    {
        _office.Dispose();
        _servers.Dispose();
    }

    [Theory]
    [InlineData("postgresql")]
    [InlineData("mariadb")]
    public void What_another_program_works_on_is_refused_and_given_back_it_can_be_taken_at_once(string engine)
    {
        StoreAddress store = _servers.Database(engine, "locked");
        _office.Add("A", store);
        _office.Ready();
        IStoreServer server = new StoreOpener().ServerOf(store);
        using (server.TryLock(store.Path))
        {
            Assert.Null(server.TryLock(store.Path));
            _office.Run("backup").Expect(2).Says("another transferra is at work on", "where the store of A is");
        }
        // A server that is busy notices late that a connection was closed; it must not depend on that.
        Parallel.For(0, 4, lane =>
        {
            for (int i = 0; i < 25; i++) using (IDisposable? taken = server.TryLock($"{store.Path} {lane}")) Assert.NotNull(taken);
        });
        _office.Run("backup").Expect(0);
    }

    [Fact]
    public void A_lock_that_the_server_has_not_yet_let_go_of_is_waited_for_but_not_for_ever()
    {
        _office.Add("A", _servers.Database("postgresql", "waited"));
        _office.Ready();
        OfficeDescription office = OfficeLoader.Load(_office.Path);
        IStoreOpener stores = DispatchProxy.Create<IStoreOpener, LateOpener>();
        var late = (LateOpener)stores;
        late.Refusals = 3;
        using (StoreLocks.Take(office, stores)) Assert.Equal(0, late.Refusals);
        late.Refusals = int.MaxValue;
        TransferraException refused = Assert.Throws<TransferraException>(() =>
            StoreLocks.Take(office, stores, TimeSpan.FromMilliseconds(250)));
        Assert.StartsWith("another transferra is at work on", refused.Message, StringComparison.Ordinal);
        Assert.InRange(int.MaxValue - late.Refusals, 1, 4);
    }

    // A server whose locks are held by somebody who is gone, for as many questions as is said.
#pragma warning disable CA1852 // the proxies are classes made from them
    private class LateOpener : DispatchProxy
    {
        public int Refusals { get; set; }

        protected override object? Invoke(MethodInfo? targetMethod, object?[]? args)
        {
            Assert.Equal(nameof(IStoreOpener.ServerOf), targetMethod!.Name);
            IStoreServer server = Create<IStoreServer, LateServer>();
            ((LateServer)server).Opener = this;
            return server;
        }
    }

    private class LateServer : DispatchProxy
    {
        public LateOpener Opener { get; set; } = null!;

        protected override object? Invoke(MethodInfo? targetMethod, object?[]? args)
        {
            Assert.Equal(nameof(IStoreServer.TryLock), targetMethod!.Name);
            return Opener.Refusals-- > 0 ? null : ReleaseOfNothing();
        }

        private MemoryStream ReleaseOfNothing()
        {
            Opener.Refusals = 0;
            return new MemoryStream();
        }
    }
#pragma warning restore CA1852
}
