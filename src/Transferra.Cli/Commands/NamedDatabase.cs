// NamedDatabase.cs: a database that a set is restored into, named by options.
using Transferra.Core.Machine;
using Transferra.Core.Records;

namespace Transferra.Cli.Commands;

/// <summary>A database named on the command line.</summary>
/// <param name="Name">Its name; of Firebird the path as the server sees it.</param>
/// <param name="Engine">One of the server engines; null for the set's own.</param>
/// <param name="Server">Where; null for the company's own server.</param>
internal sealed record NamedDatabase(string Name, string? Engine, ServerAddress? Server)
{
    /// <summary>The database that the options name; null when they name none.</summary>
    /// <exception cref="TransferraException">They contradict each other.</exception>
    public static NamedDatabase? From(string? name, string? engine, string? host, int? port, string? user, string? passwordFile)
    {
        if (name is null)
            return engine is null && host is null && port is null && user is null && passwordFile is null
                ? null : throw new TransferraException("a server was named, but no database",
                    "Add --database NAME: a new one, which is made there.");
        if (engine is not null && !StoreAddress.ServerEngines.Contains(engine))
            throw new TransferraException($"there is no server engine {engine}",
                $"The engines are {string.Join(", ", StoreAddress.ServerEngines)}.");
        bool namesServer = host is not null || port is not null || user is not null || passwordFile is not null;
        return new NamedDatabase(name, engine, namesServer
            ? new ServerAddress(host ?? "localhost", port ?? 0, user ?? "", passwordFile is null ? null : Path.GetFullPath(passwordFile))
                : null);
    }

    /// <summary>Its address.</summary>
    /// <param name="engine">The set's engine.</param>
    /// <param name="own">The company's own stores, one of which says where its server is.</param>
    public StoreAddress Address(string engine, params IReadOnlyList<StoreAddress> own)
    {
        string wanted = Engine ?? engine;
        StoreAddress? known = own.FirstOrDefault(store => store.IsOnServer && store.Engine == wanted);
        return new StoreAddress(wanted, Name, known?.Form, Server ?? known?.Server
            ?? throw new TransferraException($"it is not known where the {wanted} server is",
                "Name it with --host, --port, --user and --password-file."));
    }
}
