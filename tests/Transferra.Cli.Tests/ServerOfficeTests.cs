using System.Data.Common;
using System.Diagnostics;
using System.Reflection;
using System.Text.Json;
using Transferra.Core.Office;
using Transferra.Core.Records;
using Transferra.Core.Surveys;
using Transferra.Stores;
using Transferra.Tests;

namespace Transferra.Cli.Tests;

/// <summary>Closing, opening and surveying offices whose stores are on a real server. Those of one engine run one after the other, as a
/// survey looks into every database.</summary>
public abstract class ServerOfficeTests(string engine) : IDisposable
{
    private protected readonly TempFolder _folder = new();
    private protected readonly List<Action> _afterwards = [];

    public void Dispose()
    {
        foreach (Action action in _afterwards) action();
        _folder.Dispose();
        GC.SuppressFinalize(this);
    }

    [Fact]
    public void Databases_are_shut_to_people_all_through_an_upgrade_and_the_new_one_is_open_after_it()
    {
        using var demo = new ServerOffice(engine, small: true);
        using var servers = new TestServers();
        StoreAddress ledger = demo.Store("QIH"), clerk = servers.AsClerk(ledger, _folder.Path);
        demo.Files.Edit("office.yaml", "grace: 10 s", "grace: 0 s");
        using (DbConnection person = TestServers.Connect(clerk))
        {
            BuiltProgram.Run(demo.Path, "close", "--show").Expect(0).Says("QIH", engine == "firebird"
                ? clerk.Server!.User.ToUpperInvariant() : clerk.Server!.User, "a person's");
            BuiltProgram.Run(demo.Path, "upgrade", "QIH", "--yes", "QIH").Expect(2).Says("1 session still in: QIH");
        }
        using (TestServers.Connect(clerk)) { /* the office was left open */ }
        BuiltProgram.Run(demo.Path, "upgrade", "QIH", "--yes", "QIH", "--stay-closed").Expect(0).Says("Closed, and proved",
            "The office stays closed");
        Assert.ThrowsAny<DbException>(() => TestServers.Connect(clerk));
        BuiltProgram.Run(demo.Path, "match", "QIH").Expect(0); // but we come in
        BuiltProgram.Run(demo.Path, "reopen").Expect(0);
        using (TestServers.Connect(clerk)) { /* the new one, under the old one's name */ }
        // The old one, set aside, is open as well, so that it can be taken back and looked into.
        StoreAddress aside = servers.Known(ledger.Beside("",
            Path.GetFileName(Directory.GetDirectories(Path.Combine(demo.Path, "transferra/runs"))[0]), "old-v5"));
        if (engine != "mariadb") using (TestServers.Connect(clerk with { Path = aside.Path })) { }
        BuiltProgram.Run(demo.Path, "undo", "--yes", "QIH").Expect(0);
        using (TestServers.Connect(clerk)) { }
        // Somebody who is in is put out when that is said.
        using DbConnection another = TestServers.Connect(clerk);
        BuiltProgram.Run(demo.Path, "close", "--end-sessions").Expect(0).Says("Closed, and proved");
        Assert.Empty(new StoreOpener().ServerOf(ledger).Sessions(ledger.Path));
        BuiltProgram.Run(demo.Path, "reopen").Expect(0);
        using (TestServers.Connect(clerk)) { }
    }

    [Fact]
    public void Killed_while_it_shuts_or_opens_databases_they_can_be_opened()
    {
        using var demo = new ServerOffice(engine, small: true);
        using var servers = new TestServers();
        StoreAddress ledger = demo.Store("QIH"), clerk = servers.AsClerk(ledger, _folder.Path);
        int kills = 0;
        for (int n = 5; ; n += 6)
        {
            bool closing = kills % 2 == 0;
            if (!closing) BuiltProgram.Run(demo.Path, "close").Expect(0);
            Called called = BuiltProgram.RunUntil(n, demo.Path, closing ? "close" : "reopen");
            BuiltProgram.Run(demo.Path, "reopen").Expect(0);
            using (TestServers.Connect(clerk)) { }
            if (called.ExitCode == 0) break;
            called.Expect(137);
            kills++;
        }
        Assert.InRange(kills, 2, 40);
    }

    [Fact]
    public void Databases_that_are_not_in_office_yaml_are_found_on_the_server_and_an_office_is_drafted_from_one()
    {
        using var office = new ServerOffice(engine, small: true);
        string text = File.ReadAllText(office.Files["office.yaml"]);
        int start = text.IndexOf("      - code: QWS", StringComparison.Ordinal), end = text.IndexOf("    installer: installers/ledger-6",
            StringComparison.Ordinal);
        File.WriteAllText(office.Files["office.yaml"], text[..start] + text[end..]);
        BuiltProgram.Run(office.Path, "survey").Expect(1).Says("Found, but not in office.yaml");
        string name = office.Store("QWS").Path;
        JsonElement unlisted = BuiltProgram.Run(office.Path, "survey", "--json").Expect(1).Json.GetProperty("result")
            .GetProperty("unlisted");
        Assert.Contains(unlisted.EnumerateArray(), store => store.GetProperty("address").GetProperty("path").GetString() == name
            && store.GetProperty("dataVersion").GetString() == "5");
        BuiltProgram.Run(office.Path, "survey", "--write").Expect(0);
        BuiltProgram.Run(office.Path, "survey", "--json").Says(name);
        string folder = _folder[engine];
        Directory.CreateDirectory(folder);
        ServerAddress server = office.Store("QWS").Server!;
        string[] where = ["--new", engine, "--kits", office.Files["kits"], "--host", server.Host, "--port",
            server.Port.ToString(System.Globalization.CultureInfo.InvariantCulture), "--user", server.User, "--password-file",
                server.PasswordFile!];
        if (engine == "firebird") where = [.. where, "--databases", TestServers.FirebirdFolder];
        BuiltProgram.Run(folder, ["survey", .. where]).Expect(0).Says("Drafted:");
        string drafted = File.ReadAllText(Path.Combine(folder, "office.yaml"));
        Assert.Contains(name, drafted, StringComparison.Ordinal);
        Assert.Contains(server.PasswordFile!, drafted, StringComparison.Ordinal);
        Assert.DoesNotContain(File.ReadLines(server.PasswordFile!).First(), drafted, StringComparison.Ordinal);
        BuiltProgram.Run(folder, "survey", "--json").Says(office.Store("QIH").Path);
    }
}

[Collection("mariadb")]
public sealed class MariadbOfficeTests() : ServerOfficeTests("mariadb");

[Collection("firebird")]
public sealed class FirebirdOfficeTests() : ServerOfficeTests("firebird");

[Collection("postgresql")]
public sealed class PostgresqlOfficeTests() : ServerOfficeTests("postgresql")
{
    private static void Sh(string script)
    {
        using Process process = Process.Start("sh", ["-c", script]);
        process.WaitForExit();
    }

    [Fact]
    public void A_server_that_ends_the_connection_while_a_company_is_looked_at_is_told_of_that_company_alone()
    {
        using var demo = new ServerOffice("postgresql", small: true);
        OfficeDescription office = OfficeLoader.Load(demo.Path);
        IStoreOpener stores = DispatchProxy.Create<IStoreOpener, EndingOpener>();
        ((EndingOpener)stores).Ends = address => address.Path == demo.Store("QIH").Path;
        CompanySurvey[] seen = [.. office.Companies.Select(company => Survey.Of(company, stores))];
        foreach (CompanySurvey company in seen)
        {
            if (company.Code != "QIH") Assert.DoesNotContain("terminating", company.Problem, StringComparison.Ordinal);
            else Assert.Contains("the database engine stopped the work: 57P01: terminating connection", company.Problem,
                StringComparison.Ordinal);
        }
        Assert.Contains(seen, company => company.Code == "QIH");
        Assert.Contains(seen, company => company.Code == "QWS" && company.DataVersion == "5" && company.Records > 0);
    }

    // Opens stores, and has the server end the connections to some of them at once.
#pragma warning disable CA1852 // the proxy is a class made from it
    private class EndingOpener : DispatchProxy
#pragma warning restore CA1852
    {
        private readonly StoreOpener _stores = new();

        public Func<StoreAddress, bool> Ends { get; set; } = _ => false;

        protected override object? Invoke(MethodInfo? targetMethod, object?[]? args)
        {
            object? given = targetMethod!.Invoke(_stores, args);
            if (given is IStore && args?[0] is StoreAddress address && Ends(address))
                TestServers.Execute(address with { Path = "postgres" },
                    $"SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE datname = '{address.Path}'");
            return given;
        }
    }

    [Fact]
    public void A_services_own_sessions_are_not_waited_for_and_must_be_gone_when_it_is_stopped()
    {
        using var demo = new ServerOffice("postgresql", small: true);
        using var servers = new TestServers();
        StoreAddress ledger = demo.Store("QIH"), service = servers.AsClerk(ledger, _folder.Path);
        string pid = _folder["service.pid"], connect =
            $"sleep 1000 | PGPASSWORD=$(cat {service.Server!.PasswordFile}) psql -h {ledger.Server!.Host} -p {ledger.Server.Port} -U "
                + $"{service.Server.User} -d {ledger.Path}";
        File.WriteAllText(_folder["ctl.sh"],
            $"case $1 in start) setsid sh -c \"{connect}\" >/dev/null 2>&1 & echo $! >{pid};; stop) pkill -s $(cat {pid}); rm {pid};; "
                + $"status) [ -f {pid} ] || exit 3;; esac\n");
        string text = File.ReadAllText(demo.Files["office.yaml"]);
        int start = text.IndexOf("  services:", StringComparison.Ordinal), end = text.IndexOf("  jobs:", StringComparison.Ordinal);
        string control = _folder["ctl.sh"];
        File.WriteAllText(demo.Files["office.yaml"], text[..start]
            + $"  services:\n    - {{service: ledger, start: [sh, {control}, start], stop: [sh, {control}, stop], status: [sh, "
            + $"{control}, status], connects-as: [{service.Server.User}]}}\n" + text[end..]);
        Sh($"sh {control} start");
        _afterwards.Add(() => Sh($"[ ! -f {pid} ] || sh {control} stop"));
        for (int i = 0; i < 50 && new StoreOpener().ServerOf(ledger).Sessions(ledger.Path).Count == 0; i++) Thread.Sleep(100);
        BuiltProgram.Run(demo.Path, "close", "--show").Expect(0).Says("the service ledger");
        demo.Files.Edit("office.yaml", "grace: 10 s", "grace: 1 h"); // which is for people
        BuiltProgram.Run(demo.Path, "close").Expect(0).Says("Closed, and proved");
        BuiltProgram.Run(demo.Path, "reopen").Expect(0);
        for (int i = 0; i < 50 && new StoreOpener().ServerOf(ledger).Sessions(ledger.Path).Count == 0; i++) Thread.Sleep(100);
        Assert.Equal(service.Server.User, Assert.Single(new StoreOpener().ServerOf(ledger).Sessions(ledger.Path)).User);
    }
}
