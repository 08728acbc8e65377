// DemoFolder.cs: the demo office in a folder of its own, copied from one that is generated once for all tests.
using Microsoft.Data.Sqlite;
using Transferra.Demo;
using Transferra.Tests;

namespace Transferra.Cli.Tests;

internal sealed class DemoFolder : IDisposable
{
    private static readonly Lazy<TempFolder> Full = new(() => Made(1)), Small = new(() => Made(40)),
        Sixth = new(() => Made(6));

    /// <summary>What the demo's kits want people's word on.</summary>
    public static readonly IReadOnlyList<string> Words = ["notes-5-to-6", "users-told", "vendors-told", "laptops-in", "one-disk"];

    private readonly TempFolder _folder = new();

    private static TempFolder Made(int oneIn)
    {
        var folder = new TempFolder();
        DemoOffice.Write(folder.Path, oneIn);
        WithoutWages(folder);
        // What people have to say has been said, so that each test need not say it again.
        BuiltProgram.Run(folder.Path, ["ready", .. Words.SelectMany(word => (string[])["--confirm", word])]).Expect(0);
        AppDomain.CurrentDomain.ProcessExit += (_, _) => folder.Dispose();
        return folder;
    }

    // The payroll waits for a person; its tests are those of WagesTests.
    private static void WithoutWages(TempFolder folder)
    {
        string path = folder["office.yaml"], text = File.ReadAllText(path);
        int at = text.IndexOf("  - kit: kits/pellwright-wages", StringComparison.Ordinal);
        File.WriteAllText(path, text[..at] + text[text.IndexOf("closing:", StringComparison.Ordinal)..]);
        foreach (string of in (string[])["kits/pellwright-wages", "programs/wages", "data/QPW"]) Directory.Delete(folder[of], true);
    }

    /// <param name="small">Only one in forty records, without the planted faults, for tests that upgrade hundreds of times.</param>
    public DemoFolder(bool small = false) : this((small ? Small : Full).Value) { }

    private DemoFolder(TempFolder made)
    {
        TempFolder.Copy(made.Path, _folder.Path);
        // Tests run beside each other, and each office's service has a port of its own.
        Edit("office.yaml", "47110", Port);
        Edit("programs/ledger/ledger.ini", "47110", Port);
    }

    /// <summary>The demo office with one in six records and all planted faults, for engines that take their time.</summary>
    public static DemoFolder OfASixth() => new(Sixth.Value);

    /// <summary>The demo office with one of its companies only, for tests that close and open it many times.</summary>
    public static DemoFolder OfOne()
    {
        var office = new DemoFolder(small: true);
        string text = File.ReadAllText(office["office.yaml"]);
        office.Edit("office.yaml", text[text.IndexOf("      - code: QWS",
            StringComparison.Ordinal)..text.IndexOf("    installer: installers/ledger-6",
            StringComparison.Ordinal)], "");
        office.Edit("office.yaml", text[text.IndexOf("  - kit: kits/pellwright-stockroom",
            StringComparison.Ordinal)..text.IndexOf("closing:", StringComparison.Ordinal)], "");
        return office;
    }

    /// <summary>Says in office.yaml where backup sets go.</summary>
    /// <param name="backup">One line, in place of what is said of it now.</param>
    public void SetBackup(string backup)
    {
        IEnumerable<string> others = File.ReadAllLines(this["office.yaml"])
            .Where(line => !line.StartsWith("backup:", StringComparison.Ordinal) && line != "  to: [sets]");
        File.WriteAllLines(this["office.yaml"], [.. others, backup]);
    }

    /// <summary>The port of this office's service.</summary>
    public string Port { get; } = FreePort().ToString(System.Globalization.CultureInfo.InvariantCulture);

    private static int FreePort()
    {
        using var listener = new System.Net.Sockets.TcpListener(System.Net.IPAddress.Loopback, 0);
        listener.Start();
        return ((System.Net.IPEndPoint)listener.LocalEndpoint).Port;
    }

    /// <summary>Permissions of every folder of the companies' data.</summary>
    public IReadOnlyDictionary<string, UnixFileMode> Modes() => Directory.EnumerateDirectories(_folder["data"], "*",
        SearchOption.AllDirectories).Order(StringComparer.Ordinal)
        .ToDictionary(folder => System.IO.Path.GetRelativePath(_folder.Path, folder), File.GetUnixFileMode);

    public string Path => _folder.Path;

    public string this[string relative] => _folder[relative];

    public string Store(string company) => _folder[$"data/{company}/ledger.db"];

    /// <summary>Every file and folder of the companies' data, with its digest; not the marks of a closing, which come and go with
    /// it.</summary>
    public IReadOnlyDictionary<string, string> DataSignature() => new SortedDictionary<string, string>(TempFolder.Signature(_folder["data"])
        .Where(entry => !System.IO.Path.GetFileName(entry.Key).StartsWith(".transferra-shut-", StringComparison.Ordinal)).ToDictionary(),
            StringComparer.Ordinal);

    /// <summary>The folder that the newest run keeps a company's old and staged stores in.</summary>
    public string WorkFolder(string company) => Assert.Single(Directory.GetDirectories(_folder[$"data/{company}"], "transferra-*"));

    public void Edit(string file, string old, string replacement)
    {
        string text = File.ReadAllText(this[file]);
        Assert.Contains(old, text, StringComparison.Ordinal);
        File.WriteAllText(this[file], text.Replace(old, replacement, StringComparison.Ordinal));
    }

    public static int Execute(string store, string sql)
    {
        using var connection = new SqliteConnection(new SqliteConnectionStringBuilder { DataSource = store, Pooling = false }.ToString());
        connection.Open();
        using SqliteCommand command = connection.CreateCommand();
        command.CommandText = sql;
        return command.ExecuteNonQuery();
    }

    public static string? Ask(string store, string sql)
    {
        using var connection = new SqliteConnection(new SqliteConnectionStringBuilder
        {
            DataSource = store,
            Mode = SqliteOpenMode.ReadOnly,
            Pooling = false
        }.ToString());
        connection.Open();
        using SqliteCommand command = connection.CreateCommand();
        command.CommandText = sql;
        return Convert.ToString(command.ExecuteScalar(), System.Globalization.CultureInfo.InvariantCulture);
    }

    public void Dispose() => _folder.Dispose();
}
