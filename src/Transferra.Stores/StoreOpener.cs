// StoreOpener.cs: the one door to all engines.
using Transferra.Core.Machine;
using Transferra.Core.Records;
using Transferra.Stores.Dbf;
using Transferra.Stores.Delimited;
using Transferra.Stores.Firebird;
using Transferra.Stores.JsonLines;
using Transferra.Stores.Mariadb;
using Transferra.Stores.Postgresql;
using Transferra.Stores.Sqlite;
using Transferra.Stores.Workbook;

namespace Transferra.Stores;

/// <summary>Opens and creates stores of every engine there is.</summary>
public sealed class StoreOpener : IStoreOpener
{
    /// <inheritdoc/>
    public IStore Open(StoreAddress address, string? textEncoding = null) => address.Engine switch
    {
        "sqlite" => SqliteStore.Open(address.Path, textEncoding),
        "dbf" => DbfStore.Open(address.Path, textEncoding),
        "delimited" => DelimitedStore.Open(address, textEncoding),
        "json-lines" => JsonLinesStore.Open(address.Path),
        "workbook" => WorkbookStore.Open(address.Path),
        "postgresql" => PgStore.Open(address, textEncoding),
        "mariadb" => MariaStore.Open(address),
        "firebird" => FbStore.Open(address, textEncoding),
        _ => throw Unknown(address),
    };

    /// <inheritdoc/>
    public IStoreBuilder Create(StoreAddress address, string? textEncoding = null, bool keysFirst = false) => address.Engine switch
    {
        "sqlite" when textEncoding is null => SqliteStoreBuilder.Create(address.Path),
        "sqlite" => throw new TransferraException($"a new SQLite store keeps its text in UTF-8, and the kit wants {textEncoding}",
            "Take text-encoding out of the new version's file in the kit."),
        "dbf" => DbfStoreBuilder.Create(address.Path, textEncoding),
        "delimited" => DelimitedStoreBuilder.Create(address, textEncoding),
        "json-lines" => JsonLinesStoreBuilder.Create(address.Path),
        "workbook" => throw new TransferraException("a workbook can be read, but no new store is written as one",
            "Name another engine under new-store in office.yaml."),
        "postgresql" => PgStoreBuilder.Create(address, keysFirst),
        "mariadb" => MariaStoreBuilder.Create(address),
        "firebird" => FbStoreBuilder.Create(address, keysFirst),
        _ => throw Unknown(address),
    };

    /// <inheritdoc/>
    public IStoreJudge JudgeOf(StoreAddress address, string? textEncoding = null) => StoreJudges.Of(address, textEncoding)
        ?? throw Unknown(address);

    /// <inheritdoc/>
    public IStoreBuilder Rebuild(StoreAddress address, StoreScript script, string folder) => address.Engine switch
    {
        "postgresql" => PgStoreBuilder.Rebuild(address, script),
        "mariadb" => MariaStoreBuilder.Rebuild(address, script),
        "firebird" => FbStoreBuilder.Rebuild(address, script, folder),
        _ => throw Unknown(address),
    };

    /// <inheritdoc/>
    public IReadOnlyList<string> AddUnmoved(StoreAddress address, StoreScript script) => address.Engine == "mariadb"
        ? MariaStoreBuilder.AddUnmoved(address, script) : [];

    /// <inheritdoc/>
    public void Copy(StoreAddress from, StoreAddress to)
    {
        switch (from.Engine)
        {
            case "postgresql": PgMender.Copy(from, to); break;
            case "mariadb": MariaMender.Copy(from, to); break;
            case "firebird": FbMender.Copy(from, to); break;
            case "sqlite" when IsInUse(from.Path): SqliteCopy.OfOneInUse(from.Path, to.Path); break;
            default: CopyFiles(from.Path, to.Path); break;
        }
    }

    private static bool IsInUse(string path) => new FileInfo(path + "-wal") is { Exists: true, Length: > 0 }
        || new FileInfo(path + "-journal") is { Exists: true, Length: > 0 }
        || OpenFiles.HoldersOf([path]).Count > 0;

    // A SQLite file is whole by itself when nothing waits beside it and nobody has it open.
    private static void CopyFiles(string from, string to)
    {
        var volume = new DiskVolume();
        if (File.Exists(from))
        {
            File.Copy(from, to, overwrite: false);
            volume.FlushFile(to);
            return;
        }
        FolderCopy.Make(from, to);
        volume.FlushFolder(to);
    }

    /// <inheritdoc/>
    public IStoreMender Mend(StoreAddress copy, string? textEncoding) => copy.Engine switch
    {
        "sqlite" => new SqliteMender(copy.Path, textEncoding),
        "dbf" => new DbfMender(copy.Path, textEncoding),
        "postgresql" => new PgMender(copy),
        "mariadb" => new MariaMender(copy),
        "firebird" => new FbMender(copy, textEncoding),
        _ => throw new TransferraException($"records in {copy.Engine} files are not mended here",
            "Correct them where they come from, and have the files written anew."),
    };

    /// <inheritdoc/>
    public IReadOnlyList<string> FilesOf(StoreAddress address) => address.IsOnServer ? [] : Directory.Exists(address.Path)
        ? [.. Directory.EnumerateFiles(address.Path).Order(StringComparer.Ordinal)]
        : [address.Path, .. ((string[])["-journal", "-wal", "-shm"]).Select(suffix => address.Path + suffix).Where(File.Exists)];

    /// <inheritdoc/>
    public IStoreServer ServerOf(StoreAddress address) => address.Engine switch
    {
        "postgresql" => new PgServer(address.Server!),
        "mariadb" => new MariaServer(address.Server!),
        "firebird" => new FbServer(address.Server!),
        _ => throw Unknown(address),
    };

    private static TransferraException Unknown(StoreAddress address) =>
        new($"there is no engine {address.Engine}", "Correct the store in office.yaml.");
}
