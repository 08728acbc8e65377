// StoreAddress.cs: where a company's records live, as office.yaml says: a file, a folder, or a database on a server.
// Holds: (1) an address never contains a password, only where one is kept; (2) every store that an upgrade makes stands beside the one it
// is
//        made for, so that the change-over is a rename.
using System.Globalization;

namespace Transferra.Core.Records;

/// <summary>A database server, and as whom we come to it.</summary>
/// <param name="Host">Name or address; a path starting with "/" is a folder of a local socket.</param>
/// <param name="Port">1 to 65535; 0 for the engine's usual one.</param>
/// <param name="User">Name at the server; "" for the engine's own habit.</param>
/// <param name="PasswordFile">File that only its owner may read, with the password in its first line; null when there is none.</param>
/// <param name="PasswordVariable">Environment variable that holds the password; null when there is none.</param>
/// <param name="Owner">Who is to own new stores; null for the user who makes them.</param>
/// <param name="Connection">What is asked of the way there.</param>
/// <param name="Authority">File with the certificates, in PEM, of whom we believe who the server is; null for those whom this machine
/// believes.</param>
public sealed record ServerAddress(string Host, int Port, string User, string? PasswordFile = null, string? PasswordVariable = null,
    string? Owner = null,
    ConnectionCare Connection = ConnectionCare.AsOffered, string? Authority = null);

/// <summary>What is asked of a connection to a server.</summary>
public enum ConnectionCare
{
    /// <summary>Encrypted where the server offers it, or on this machine asks for it; whoever stands in between can take that
    /// away.</summary>
    AsOffered,

    /// <summary>Encrypted, whoever the server is.</summary>
    Encrypted,

    /// <summary>Encrypted, and the server proves by its certificate that it is the one named.</summary>
    Checked,
}

/// <summary>Where a company's records live.</summary>
/// <param name="Engine">One of <see cref="FileEngines"/> and <see cref="ServerEngines"/>.</param>
/// <param name="Path">Full path of the file or of the folder of tables; on a server, the database's name there.</param>
/// <param name="Form">How a folder of delimited text is written, or what else the engine must be told, by key; null when nothing is
/// said.</param>
/// <param name="Server">Where the server is; null for files.</param>
public sealed record StoreAddress(string Engine, string Path, IReadOnlyDictionary<string, string>? Form = null,
    ServerAddress? Server = null)
{
    private static readonly Dictionary<string, string> Nothing = [];

    /// <summary>Engines whose stores are files or folders.</summary>
    public static readonly IReadOnlyList<string> FileEngines = ["sqlite", "dbf", "delimited", "json-lines", "workbook"];

    /// <summary>Engines whose stores are databases on a server.</summary>
    public static readonly IReadOnlyList<string> ServerEngines = ["postgresql", "mariadb", "firebird"];

    /// <summary>All of them.</summary>
    public static readonly IReadOnlyList<string> Engines = [.. FileEngines, .. ServerEngines];

    /// <summary>How the names of the files end that SQLite keeps beside its own while it is worked with: https://sqlite.org/tempfiles.html,
    /// sections 2.1 to 2.3.</summary>
    internal static readonly IReadOnlyList<string> EndingsBeside = ["-journal", "-wal", SharedMemoryEnding];

    /// <summary>The one of them in which no changes are.</summary>
    internal const string SharedMemoryEnding = "-shm";

    /// <summary>How the names of everything begin that a run makes beside a store.</summary>
    public const string RunPrefix = "transferra-";

    // PostgreSQL cuts names after 63 bytes, MariaDB after 64 characters.
    private const int LongestName = 63;

    /// <summary>A file or folder that is not a store, as it takes part in a change-over.</summary>
    public static StoreAddress OfFiles(string path) => new("files", path);

    /// <summary>How the names of the files end that its engine keeps beside its own; none for engines that keep none.</summary>
    public IReadOnlyList<string> EndingsKept => Engine == "sqlite" ? EndingsBeside : [];

    /// <summary>What is said of its form; empty when nothing is.</summary>
    public IReadOnlyDictionary<string, string> Options => Form ?? Nothing;

    /// <summary>Whether a server keeps it.</summary>
    public bool IsOnServer => Server is not null;

    /// <summary>The address as a person reads it, and as journals know it again.</summary>
    public string Shown => Server is null ? Path
        : Server.Port == 0 ? $"{Path} ({Engine} at {Server.Host})" : string.Create(CultureInfo.InvariantCulture,
            $"{Path} ({Engine} at {Server.Host}:{Server.Port})");

    /// <summary>The last part of the path or name.</summary>
    public string Name => System.IO.Path.GetFileName(Path);

    /// <summary>The folder it lies in; "" for a database that has a name and no path.</summary>
    public string Folder => System.IO.Path.GetDirectoryName(Path) ?? "";

    /// <summary>A place beside it for a store that a run makes or sets aside.</summary>
    /// <param name="workFolder">The run's folder beside a store of files.</param>
    /// <param name="run">The run's id.</param>
    /// <param name="label">What it is there: "v6", "old-v5".</param>
    public StoreAddress Beside(string workFolder, string run, string label)
    {
        if (Server is null) return this with { Path = System.IO.Path.Combine(workFolder, label, Name) };
        // A name beside its own, told apart by run and label, which stand first so that cutting a long name cuts none of them off.
        string name = $"{RunPrefix}{run}-{label}-{Name}";
        if (Folder.Length == 0 && System.Text.Encoding.UTF8.GetByteCount(name) > LongestName)
        {
            // Cut, with a digest of what is cut off, so that two long names stay two.
            string digest = Convert.ToHexStringLower(
            System.Security.Cryptography.SHA256.HashData(System.Text.Encoding.UTF8.GetBytes(name)))[..8];
            while (System.Text.Encoding.UTF8.GetByteCount(name) > LongestName - digest.Length - 1) name = name[..^1];
            name = $"{name}-{digest}";
        }
        return this with { Path = Folder.Length == 0 ? name : System.IO.Path.Combine(Folder, name) };
    }
}
