using System.Net;
using System.Net.Sockets;
using Transferra.Core.Machine;
using Transferra.Core.Records;
using Transferra.Tests;

namespace Transferra.Stores.Tests;

/// <summary>How safe the way to a server is: as office.yaml asks, and told.</summary>
public sealed class ConnectionTests : IDisposable
{
    public static TheoryData<string> WithCertificates => ["postgresql", "mariadb"];

    private static string Authority => Environment.GetEnvironmentVariable("TRANSFERRA_TEST_AUTHORITY")
        ?? throw new InvalidOperationException("the servers for tests are not started; run ./test.sh, or source tests/servers.sh");

    private readonly TestServers _servers = new();
    private readonly TempFolder _folder = new();
    private readonly StoreOpener _stores = new();

    public void Dispose()
    {
        _servers.Dispose();
        _folder.Dispose();
    }

    private string Told(StoreAddress at)
    {
        using IStore store = _stores.Open(at);
        return store.Identity.HeaderFields["connection"];
    }

    [Theory]
    [MemberData(nameof(WithCertificates))]
    public void A_certificate_is_checked_when_that_is_asked_and_told_either_way(string engine)
    {
        StoreAddress at = _servers.Made(engine, "tls");
        ServerAddress server = at.Server!;
        Assert.Equal("not encrypted; it does not leave this machine", Told(at));
        Assert.Matches(@"^encrypted \(TLSv1\.[23]\), certificate not checked$",
            Told(at with { Server = server with { Connection = ConnectionCare.Encrypted } }));
        Assert.Matches(@"^encrypted \(TLSv1\.[23]\), certificate checked$",
            Told(at with { Server = server with { Connection = ConnectionCare.Checked, Authority = Authority } }));
        // An authority that this machine does not believe; the right one and another name; a file that holds none, or is not there.
        File.WriteAllText(_folder["none.pem"], "nothing of the kind\n");
        foreach (ServerAddress refused in (ServerAddress[])[server with { Connection = ConnectionCare.Checked },
            server with { Host = "localhost", Connection = ConnectionCare.Checked, Authority = Authority }])
            Assert.Contains("not as safe as office.yaml asks",
                Assert.Throws<TransferraException>(() => Told(at with { Server = refused })).Message, StringComparison.Ordinal);
        foreach (string file in (string[])[_folder["none.pem"], _folder["missing.pem"]])
            Assert.Contains(file, Assert.Throws<TransferraException>(() =>
                Told(at with { Server = server with { Connection = ConnectionCare.Checked, Authority = file } })).Message,
                StringComparison.Ordinal);
    }

    [Fact]
    public void On_the_same_machine_it_is_encrypted_where_the_account_asks_for_it()
    {
        StoreAddress at = _servers.Made("mariadb", "asks"), clerk = _servers.AsClerk(at, _folder.Path);
        Assert.Equal("not encrypted; it does not leave this machine", Told(clerk));
        TestServers.Execute(at with { Path = "" }, $"ALTER USER '{clerk.Server!.User}'@'%' REQUIRE SSL");
        Assert.Matches(@"^encrypted \(TLSv1\.[23]\), certificate not checked$", Told(clerk));
        File.Delete(clerk.Server.PasswordFile!);
        File.WriteAllText(clerk.Server.PasswordFile!, "wrong");
        File.SetUnixFileMode(clerk.Server.PasswordFile!, UnixFileMode.UserRead);
        Assert.Contains("does not let", Assert.Throws<TransferraException>(() => Told(clerk)).Message, StringComparison.Ordinal);
    }

    // The loading connection checks for itself.
    [Fact]
    public void A_new_store_is_filled_over_a_checked_connection_or_not_at_all()
    {
        StoreAddress at = _servers.Database("mariadb", "filled");
        var table = new TableShape("t", [new("a", FieldType.Integer, true)], ["a"], []);
        void Fill(ServerAddress server)
        {
            using IStoreBuilder builder = _stores.Create(at with { Server = server });
            builder.CreateTable(table);
            var batch = new RecordBatch(table.Columns);
            ((LongVector)batch.Vectors[0]).Append(7);
            builder.Write([new TableOutput(table, batch.Vectors)], [0], []);
            builder.Complete(new Dictionary<string, string>());
        }

        ServerAddress asked = at.Server! with { Connection = ConnectionCare.Checked, Authority = Authority };
        foreach (ServerAddress refused in (ServerAddress[])[asked with { Authority = null }, asked with { Host = "localhost" }])
            Assert.Contains("not as safe as office.yaml asks", Assert.Throws<TransferraException>(() => Fill(refused)).Message,
                StringComparison.Ordinal);
        Fill(asked);
        using IStore store = _stores.Open(at with { Server = asked });
        Assert.Equal(1, store.CountRows("t"));
    }

    [Fact]
    public void Firebird_tells_whether_it_is_encrypted_and_can_be_held_to_it()
    {
        StoreAddress at = _servers.Made("firebird", "wire");
        Assert.Equal("not encrypted; it does not leave this machine", Told(at));
        Assert.StartsWith("encrypted", Told(at with { Server = at.Server! with { Connection = ConnectionCare.Encrypted } }),
            StringComparison.Ordinal);
    }

    [Fact]
    public void A_Firebird_server_on_this_machine_that_insists_on_encryption_gets_it()
    {
        StoreAddress at = _servers.MadeOnEncrypted("insists", "CREATE TABLE T (A INTEGER)", "INSERT INTO T VALUES (7)");
        Assert.Matches(@"^\d+\.\d+\.\d+", new Firebird.FbServer(at.Server! with { Host = "localhost" }).EngineVersion());
        Assert.StartsWith("encrypted", Told(at), StringComparison.Ordinal);
        using IStore store = _stores.Open(at);
        Assert.Equal(1, store.CountRows("T"));
        Assert.Empty(store.CheckPhysically());
        // A wrong password is still a wrong password.
        File.WriteAllText(_folder["wrong"], "wrong");
        File.SetUnixFileMode(_folder["wrong"], UnixFileMode.UserRead);
        Assert.Contains("does not let", Assert.Throws<TransferraException>(() =>
            Told(at with { Server = at.Server! with { PasswordFile = _folder["wrong"] } })).Message, StringComparison.Ordinal);
    }

    // Whoever stands in between says that there is no encryption; a password must not be sent to him then.
    [Fact]
    public async Task A_server_that_offers_no_encryption_gets_nothing_when_it_is_asked_for()
    {
        using var listener = new TcpListener(IPAddress.Loopback, 0);
        listener.Start();
        var heard = new List<byte>();
        Task serving = Task.Run(async () =>
        {
            try
            {
                while (true)
                {
                    using TcpClient client = await listener.AcceptTcpClientAsync();
                    byte[] asked = new byte[8];
                    // "May we encrypt?" in two ways, each of eight bytes that begin with their length; whatever else comes would be what
                    // must not come.
                    while (await client.GetStream().ReadAtLeastAsync(asked, asked.Length, throwOnEndOfStream: false) == asked.Length)
                    {
                        heard.Add(asked[3]);
                        await client.GetStream().WriteAsync("N"u8.ToArray());
                    }
                }
            }
            catch (Exception error) when (error is SocketException or IOException or InvalidOperationException) { /* stopped below */ }
        }, TestContext.Current.CancellationToken);
        var at = new StoreAddress("postgresql", "books", Server: TestServers.Server("postgresql") with
        {
            Port = ((IPEndPoint)listener.LocalEndpoint).Port,
            Connection = ConnectionCare.Encrypted,
        });
        Assert.Contains("not as safe as office.yaml asks", Assert.Throws<TransferraException>(() => Told(at)).Message,
            StringComparison.Ordinal);
        listener.Stop();
        await serving;
        Assert.NotEmpty(heard);
        Assert.All(heard, length => Assert.Equal(8, length));
    }
}
