// NamedServer.cs: a database server named by options, for a survey that drafts an office from it, and for the demo office with its stores
// there:
// the old ledgers are loaded into it before the upgrade begins, and the stockroom's folder of tables moves there.
using Transferra.Core.Kits;
using Transferra.Core.Machine;
using Transferra.Core.Office;
using Transferra.Core.Records;

namespace Transferra.Cli.Commands;

/// <summary>A server named on the command line.</summary>
/// <param name="Engine">One of the server engines.</param>
/// <param name="Server">Where.</param>
/// <param name="Folder">Folder on the server for engines that name databases by their path; null for others.</param>
internal sealed record NamedServer(string Engine, ServerAddress Server, string? Folder)
{
    /// <summary>How the names of its databases begin.</summary>
    internal string Prefix { get; init; } = "quaverholt_";

    /// <summary>The server that the options name; null when they name none.</summary>
    /// <exception cref="TransferraException">They contradict each other.</exception>
    public static NamedServer? From(string? engine, string? host, int? port, string? user, string? passwordFile, string? databases)
    {
        if (engine is null)
            return host is null && port is null && user is null && passwordFile is null && databases is null
                ? null : throw new TransferraException("a server was named, but no engine",
                $"Add --engine {string.Join(" or --engine ", StoreAddress.ServerEngines)}.");
        if (!StoreAddress.ServerEngines.Contains(engine))
            throw new TransferraException($"there is no server engine {engine}",
                $"The engines are {string.Join(", ", StoreAddress.ServerEngines)}.");
        if (engine == "firebird" && databases is null)
            throw new TransferraException("Firebird names databases by their path, and no folder was named",
                "Add --databases DIR: a folder on this machine that the server may write to.");
        return new NamedServer(engine, new ServerAddress(host ?? "localhost", port ?? 0, user ?? "", passwordFile is null ? null
            : Path.GetFullPath(passwordFile)), databases is null ? null : Path.GetFullPath(databases));
    }

    private string NameOf(string company) => Folder is null ? Prefix + company.ToLowerInvariant()
        : Path.Combine(Folder, Prefix + company.ToLowerInvariant() + ".fdb");

    /// <summary>Moves the demo office's old ledgers to the server, and lets office.yaml say so.</summary>
    /// <exception cref="TransferraException">The server has such databases already, or makes none.</exception>
    public void Move(string officeFolder, IStoreOpener stores)
    {
        string path = Path.Combine(officeFolder, OfficeLoader.FileName), text = File.ReadAllText(path);
        // A store whose tables nobody described stays where its vendor's converter finds it.
        foreach (Company company in OfficeLoader.Load(officeFolder).Companies.Where(company => company.Kit.Versions[0].Tables.Count > 0))
        {
            string file = Path.GetRelativePath(officeFolder, company.NewStore.Path).Replace('\\', '/'), name = NameOf(company.Code);
            if (company.MovesTo is null)
            {
                Load(company, stores, new StoreAddress(Engine, name, Server: Server));
                File.Delete(company.OldStore.Path);
            }
            text = text.Replace($"{{sqlite: {file}}}", Described(name), StringComparison.Ordinal);
        }
        File.WriteAllText(path, text);
    }

    private string Described(string name)
    {
        var parts = new List<string> { $"{Engine}: {name}", $"host: {Server.Host}" };
        if (Server.Port > 0) parts.Add(FormattableString.Invariant($"port: {Server.Port}"));
        if (Server.User.Length > 0) parts.Add($"user: {Server.User}");
        if (Server.PasswordFile is { } file) parts.Add($"password-file: {file}");
        return "{" + string.Join(", ", parts) + "}";
    }

    // As an old program might have kept it on a server: the tables, and no keys that would have refused what is wrong with them.
    private static void Load(Company company, IStoreOpener stores, StoreAddress into)
    {
        KitVersion version = company.Kit.Versions[0];
        using IStore old = stores.Open(company.OldStore, version.TextEncoding);
        using IStoreBuilder builder = stores.Create(into);
        foreach (TableShape table in version.Tables)
        {
            TableShape bare = table with
            {
                Columns = [.. table.Columns.Select(column => column with { Required = false })],
                Key = [],
                Relations = []
            };
            builder.CreateTable(bare);
            var rejects = new List<RowReject>();
            foreach (RecordBatch batch in old.Batches(bare, [], CancellationToken.None))
                builder.Write([new TableOutput(bare, batch.Vectors)], [.. Enumerable.Range(0, batch.RowCount)], rejects);
            if (rejects is [var reject, ..]) throw new TransferraException($"the demo's {table.Name} was refused: {reject.Reason}",
                "Report this.");
        }
        builder.Complete(new Dictionary<string, string>());
    }
}
