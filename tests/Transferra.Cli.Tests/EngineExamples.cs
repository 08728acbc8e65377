using System.Diagnostics;
using System.IO.Compression;
using Transferra.Core.Records;
using Transferra.Tests;

namespace Transferra.Cli.Tests;

/// <summary>Databases that the engines ship as their examples, made with the engines' own means.</summary>
internal static class EngineExamples
{
    private static string EmployeeScript => Environment.GetEnvironmentVariable("TRANSFERRA_TEST_FIREBIRD_SAMPLE")
        ?? throw new InvalidOperationException("start the servers first: source tests/servers.sh");

    /// <summary>Firebird's employee database.</summary>
    /// <param name="servers">The servers.</param>
    /// <param name="folder">Where its script is put.</param>
    /// <param name="name">The database's.</param>
    public static StoreAddress Employees(TestServers servers, string folder, string name)
    {
        StoreAddress store = servers.Made("firebird", name);
        ServerAddress server = store.Server!;
        string script = Path.Combine(folder, name + ".sql");
        string connect = $"connect '{server.Host}/{server.Port}:{store.Path}' user '{server.User}' password "
            + $"'{File.ReadLines(server.PasswordFile!).First()}';";
        using (var text = new StreamReader(new GZipStream(File.OpenRead(EmployeeScript), CompressionMode.Decompress)))
            File.WriteAllText(script, text.ReadToEnd().Replace("create database 'employee.fdb';", connect,
                StringComparison.OrdinalIgnoreCase));
        Run("isql-fb", ["-q", "-i", script], ("ISC_USER", server.User));
        return store;
    }

    /// <summary>MariaDB's help: topics, keywords and what belongs to what.</summary>
    public static StoreAddress Help(TestServers servers, string name) => servers.Made("mariadb", name, [.. ((string[])["help_topic",
        "help_category", "help_relation", "help_keyword"]).SelectMany(table => (string[])[$"CREATE TABLE {table} LIKE mysql.{table}",
            $"INSERT INTO {table} SELECT * FROM mysql.{table}"])]);

    /// <summary>The bank that PostgreSQL's pgbench makes and works with.</summary>
    public static StoreAddress Bank(TestServers servers, string name)
    {
        StoreAddress store = servers.Made("postgresql", name);
        ServerAddress server = store.Server!;
        foreach (string[] work in (string[][])[["-i", "-q", "-s", "1"], ["-t", "200", "--random-seed=7"]])
            Run(Directory.GetFiles("/usr/lib/postgresql", "pgbench", SearchOption.AllDirectories).Order(StringComparer.Ordinal).First(),
                [.. work, "-h", server.Host, "-p", FormattableString.Invariant($"{server.Port}"), "-U", server.User, store.Path],
                ("PGPASSWORD", File.ReadLines(server.PasswordFile!).First()));
        return store;
    }

    /// <summary>Runs a program of the engine's.</summary>
    public static string Run(string program, string[] arguments, (string Name, string Value) secret)
    {
        var start = new ProcessStartInfo(program, arguments) { RedirectStandardOutput = true, RedirectStandardError = true };
        start.Environment[secret.Name] = secret.Value;
        using Process process = Process.Start(start)!;
        Task<string> errors = process.StandardError.ReadToEndAsync();
        string output = process.StandardOutput.ReadToEnd();
        process.WaitForExit();
        Assert.True(process.ExitCode == 0, $"{program}: {errors.Result}");
        return output;
    }
}
