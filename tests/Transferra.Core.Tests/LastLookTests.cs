// LastLookTests.cs: who is in when a closing looks for the last time: who only looks in, and who stays.
using System.Reflection;
using Transferra.Core.Closing;
using Transferra.Core.Machine;
using Transferra.Core.Office;
using Transferra.Core.Records;
using Transferra.Tests;

namespace Transferra.Core.Tests;

public sealed class LastLookTests : IDisposable
{
    private readonly TempFolder _folder = new();

    public void Dispose() => _folder.Dispose();

    // Whatever is asked of it: a server with one session in it at some of the looks, and no doors.
#pragma warning disable CA1852 // the proxies are classes made from them
    private class Server : DispatchProxy
    {
        public Predicate<int> IsIn { get; set; } = _ => false;
        public int Looks { get; private set; }

        protected override object? Invoke(MethodInfo? targetMethod, object?[]? args) => targetMethod!.Name switch
        {
            nameof(IStoreServer.Sessions) => IsIn(++Looks)
                ? (StoreSession[])[new StoreSession(7, "postgres", "127.0.0.1", "watcher", "idle", null)] : [],
            nameof(IStoreServer.Doors) => Array.Empty<StoreDoor>(),
            _ => throw new NotSupportedException(targetMethod.Name),
        };
    }

    private class Opener : DispatchProxy
    {
        public IStoreServer Only { get; set; } = null!;

        protected override object? Invoke(MethodInfo? targetMethod, object?[]? args) =>
            targetMethod!.Name == nameof(IStoreOpener.ServerOf) ? Only : throw new NotSupportedException(targetMethod.Name);
    }
#pragma warning restore CA1852

    private sealed class Quiet : IClosingObserver
    {
        public void StepDone(ClosingStep step, string words) { }
        public void StepFailed(ClosingStep step, string what, string next) { }
        public void Waiting(IReadOnlyList<PersonIn> people, TimeSpan left) { }
        public void Ended(PersonIn person) { }
    }

    private (ClosingOutcome Outcome, int Looks) Close(Predicate<int> isIn)
    {
        IStoreServer server = DispatchProxy.Create<IStoreServer, Server>();
        ((Server)server).IsIn = isIn;
        IStoreOpener stores = DispatchProxy.Create<IStoreOpener, Opener>();
        ((Opener)stores).Only = server;
        var books = new StoreAddress("postgresql", "books", Server: new ServerAddress("127.0.0.1", 1, "nobody", null));
        var company = new Company("A", "A", null!, "2", books, null, [], new Dictionary<string, string>());
        var office = new OfficeDescription("Office", _folder.Path, [new Package(null!, null, "2", [company])], BackupPlan.In(), 0);
        var closing = new OfficeClosing(new Closings(_folder.Path, new DiskVolume()),
            new ClosingTools(new DiskVolume(), stores, null!, CancellationToken.None), new Quiet());
        return (closing.Close(office, "", "test", endsSessions: false), ((Server)server).Looks);
    }

    [Fact]
    public void Nobody_is_looked_for_more_often_than_needed()
    {
        (ClosingOutcome outcome, int looks) = Close(_ => false);
        Assert.True(outcome.IsClosed);
        Assert.Equal(3, looks);
    }

    [Fact]
    public void Who_only_looked_in_at_the_last_look_is_waited_for()
    {
        (ClosingOutcome outcome, int looks) = Close(look => look == 3);
        Assert.True(outcome.IsClosed);
        Assert.Equal(4, looks);
    }

    [Fact]
    public void Who_stays_keeps_the_office_from_being_closed()
    {
        (ClosingOutcome outcome, _) = Close(look => look >= 3);
        Assert.False(outcome.IsClosed);
        Assert.Equal("watcher", Assert.Single(outcome.StillIn).Session.Program);
    }
}
