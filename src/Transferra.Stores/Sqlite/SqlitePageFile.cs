// SqlitePageFile.cs: the pages of an open SQLite store, read through the engine's own handle of the file.
// Why the engine's handle: a second one of ours, closed, would take away the locks by which the engine keeps others from changing the
// file (POSIX advisory locks belong to the process and go with any of its handles).
// Holds: (1) nothing is written, and nothing is read that the open connection might not read; (2) a page that is not whole is not given
// out.
using Microsoft.Data.Sqlite;

namespace Transferra.Stores.Sqlite;

/// <summary>Reads pages; used by one thread at a time, as its connection is, and not after it.</summary>
internal sealed unsafe class SqlitePageFile
{
    // Pages that follow each other are read so many bytes at a time.
    private const int WindowBytes = 1 << 18;

    private readonly nint _file;
    private readonly delegate* unmanaged<nint, byte*, int, long, int> _read;
    private byte[] _window = [];
    private long _windowFrom;
    private int _windowPages, _ahead = 1;

    private SqlitePageFile(nint file, nint read, int pageBytes, int usableBytes, long pages)
    {
        _file = file;
        _read = (delegate* unmanaged<nint, byte*, int, long, int>)read;
        (PageBytes, UsableBytes, Pages) = (pageBytes, usableBytes, pages);
    }

    /// <summary>The same file for another reader: each reads ahead by itself, and they may read side by side, as the engine's own reading
    /// (pread) keeps no place in the file.</summary>
    public SqlitePageFile Again() => new(_file, (nint)_read, PageBytes, UsableBytes, Pages);

    /// <summary>Of a page.</summary>
    public int PageBytes { get; }

    /// <summary>Of a page, without what is reserved at its end for extensions.</summary>
    public int UsableBytes { get; }

    /// <summary>How many the file has, as the engine counts.</summary>
    public long Pages { get; }

    /// <summary>The pages of a connection's main file; null where they cannot be read so: text that is not in UTF-8, a file that is
    /// none.</summary>
    /// <param name="connection">Within a read transaction, with no changes waiting beside the file.</param>
    public static SqlitePageFile? Of(SqliteConnection connection)
    {
        try
        {
            return Open(connection);
        }
        catch (SqliteException)
        {
            return null; // the engine tells what is wrong when it is asked for records
        }
    }

    private static SqlitePageFile? Open(SqliteConnection connection)
    {
        if (Ask(connection, "PRAGMA encoding") != "UTF-8") return null;
        nint database = connection.Handle!.DangerousGetHandle(), file = 0;
        fixed (byte* main = "main\0"u8)
        {
            if (SqliteNative.FileControl(database, main, SqliteNative.FilePointer, &file) != SqliteNative.Ok || file == 0) return null;
        }
        // struct sqlite3_file { const sqlite3_io_methods *pMethods; }; the methods: int iVersion; xClose; xRead; ... ("The SQLite C
        // interface", OS interface file virtual methods)
        nint methods = *(nint*)file;
        if (methods == 0) return null;
        nint read = ((nint*)methods)[2];
        // Offset 20 of the file: bytes reserved in each page ("The SQLite Database File Format", section 1.3).
        byte reserved;
        if (read == 0 || ((delegate* unmanaged<nint, byte*, int, long, int>)read)(file, &reserved, 1, 20) != SqliteNative.Ok) return null;
        int pageBytes = int.Parse(Ask(connection, "PRAGMA page_size"), System.Globalization.CultureInfo.InvariantCulture);
        long pages = long.Parse(Ask(connection, "PRAGMA page_count"), System.Globalization.CultureInfo.InvariantCulture);
        return pageBytes - reserved < 480 ? null : new SqlitePageFile(file, read, pageBytes, pageBytes - reserved, pages);
    }

    private static string Ask(SqliteConnection connection, string pragma)
    {
        using SqliteCommand command = connection.CreateCommand();
#pragma warning disable CA2100 // words of our own
        command.CommandText = pragma;
#pragma warning restore CA2100
        return Convert.ToString(command.ExecuteScalar(), System.Globalization.CultureInfo.InvariantCulture) ?? "";
    }

    /// <summary>Reads one page into a buffer of its own.</summary>
    /// <returns>False when there is no such page, or not the whole of it.</returns>
    public bool TryRead(long page, Span<byte> into) => page >= 1 && page <= Pages && Read((page - 1) * PageBytes, into[..PageBytes]);

    /// <summary>Gives a page; those behind it are read with it when they were asked for one after another until now.</summary>
    /// <param name="page">From 1.</param>
    /// <param name="content">Valid until the next call.</param>
    public bool TryGet(long page, out ReadOnlySpan<byte> content)
    {
        content = default;
        if (page < 1 || page > Pages) return false;
        if (page < _windowFrom || page >= _windowFrom + _windowPages)
        {
            if (_window.Length == 0) _window = new byte[Math.Max(WindowBytes, PageBytes)];
            bool follows = page >= _windowFrom + _windowPages && page < _windowFrom + _windowPages + 4;
            _ahead = follows ? Math.Min(_ahead * 2, _window.Length / PageBytes) : 1;
            int pages = (int)Math.Min(_ahead, Pages - page + 1);
            _windowPages = 0;
            if (!Read((page - 1) * PageBytes, _window.AsSpan(0, pages * PageBytes)))
            {
                // A page ahead may be cut off or on a bad spot of the disk while this one is not.
                pages = 1;
                if (!Read((page - 1) * PageBytes, _window.AsSpan(0, PageBytes))) return false;
            }
            (_windowFrom, _windowPages) = (page, pages);
        }
        content = _window.AsSpan((int)(page - _windowFrom) * PageBytes, PageBytes);
        return true;
    }

    private bool Read(long offset, Span<byte> into)
    {
        fixed (byte* bytes = into) return _read(_file, bytes, into.Length, offset) == SqliteNative.Ok;
    }
}
