// GrowingFiles.cs: the files of a new store's tables, each growing at its end. Few of them are open at a time: with a thousand tables, a
// thousand buffers would be most of the memory there is to use.
// Holds: (1) every file has what was added to it, in that order, however many others took turns; (2) when Flush returns, all of it is on
// the disk.
using Transferra.Core.Records;

namespace Transferra.Stores.Files;

/// <summary>Files of tables. Not thread-safe.</summary>
/// <param name="pathOf">Where the file of a table lies.</param>
internal sealed class GrowingFiles(Func<string, string> pathOf) : IDisposable
{
    private const int MostOpen = 8, BufferBytes = 1 << 16;

    private sealed record TableFile(string Path)
    {
        public FileStream? Open { get; set; }
        public long Rows { get; set; }
        public bool IsChanged { get; set; }
    }

    private readonly Dictionary<string, TableFile> _tables = [];
    private readonly List<TableFile> _open = []; // the one that was used last comes last

    /// <summary>Makes an empty file for a table.</summary>
    /// <exception cref="IOException">There is one already, or it cannot be made.</exception>
    public void Make(string table)
    {
        var file = new TableFile(pathOf(table)) { IsChanged = true };
        Enter(file, new FileStream(file.Path, FileMode.CreateNew, FileAccess.Write, FileShare.None, BufferBytes));
        _tables.Add(table, file);
    }

    /// <summary>Goes on with a file that was begun.</summary>
    /// <exception cref="CannotContinueException">It is not there any more, or shorter than it was.</exception>
    public void Continue(string table, BuiltTable built)
    {
        string path = pathOf(table);
        BegunStore.OpenAt(path, built.Ends[0]).Dispose();
        _tables.Add(table, new TableFile(path) { Rows = built.Rows, IsChanged = true });
    }

    /// <summary>Adds bytes to the file of a table.</summary>
    public void Add(string table, ReadOnlySpan<byte> bytes)
    {
        TableFile file = _tables[table];
        file.IsChanged = true;
        if (_open.Count == 0 || _open[^1] != file)
        {
            if (file.Open is null) Enter(file, new FileStream(file.Path, FileMode.Append, FileAccess.Write, FileShare.None, BufferBytes));
            else
            {
                _open.Remove(file);
                _open.Add(file);
            }
        }
        file.Open!.Write(bytes);
    }

    /// <summary>Counts rows that were added to a table.</summary>
    public void Count(string table, int rows) => _tables[table].Rows += rows;

    /// <summary>Writes everything to the disk.</summary>
    public void Flush()
    {
        foreach (TableFile file in _tables.Values.Where(file => file.IsChanged))
        {
            if (file.Open is { } open) open.Flush(flushToDisk: true);
            else
            {
                using Microsoft.Win32.SafeHandles.SafeFileHandle handle = File.OpenHandle(file.Path, FileMode.Open, FileAccess.Write);
                RandomAccess.FlushToDisk(handle);
            }
            file.IsChanged = false;
        }
    }

    /// <summary>How far each table has come; after <see cref="Flush"/>.</summary>
    public Dictionary<string, BuiltTable> Built() => _tables.ToDictionary(table => table.Key, table =>
        new BuiltTable(table.Value.Rows, [table.Value.Open?.Length ?? new FileInfo(table.Value.Path).Length]));

    /// <summary>Closes what is open.</summary>
    public void Dispose()
    {
        foreach (TableFile file in _open) file.Open!.Dispose();
        foreach (TableFile file in _open) file.Open = null;
        _open.Clear();
    }

    private void Enter(TableFile file, FileStream open)
    {
        file.Open = open;
        _open.Add(file);
        if (_open.Count <= MostOpen) return;
        TableFile longest = _open[0];
        _open.RemoveAt(0);
        FileStream ended = longest.Open!;
        longest.Open = null;
        ended.Dispose();
    }
}
