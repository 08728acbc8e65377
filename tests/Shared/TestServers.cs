using System.Globalization;
using Transferra.Core.Records;
using Transferra.Stores;

namespace Transferra.Tests;

/// <summary>The servers that test.sh started (tests/servers.sh), and databases of one test on them, which go when the test ends.</summary>
internal sealed class TestServers : IDisposable
{
    private static int _count;

    private readonly string _prefix = string.Create(CultureInfo.InvariantCulture, $"t{Environment.ProcessId}_{Interlocked.Increment(ref _count)}_");
    private readonly List<StoreAddress> _given = [];

    /// <summary>Where a server is.</summary>
    public static ServerAddress Server(string engine)
    {
        string[] parts = (Environment.GetEnvironmentVariable("TRANSFERRA_TEST_" + engine.ToUpperInvariant())
            ?? throw new InvalidOperationException($"the {engine} server for tests is not started; run ./test.sh, or source tests/servers.sh")).Split(':');
        return new ServerAddress(parts[0], int.Parse(parts[1], CultureInfo.InvariantCulture), parts[2], parts[3]);
    }

    /// <summary>A database that is this test's own; not made yet.</summary>
    public StoreAddress Database(string engine, string name)
    {
        string path = _prefix + name;
        if (engine == "firebird") path = Path.Combine(Environment.GetEnvironmentVariable("TRANSFERRA_TEST_FIREBIRD_FOLDER") ?? "", path + ".fdb");
        var address = new StoreAddress(engine, path, Server: Server(engine));
        _given.Add(address);
        return address;
    }

    public void Dispose()
    {
        foreach (StoreAddress address in _given) new StoreOpener().ServerOf(address).Remove(address.Path);
    }
}
