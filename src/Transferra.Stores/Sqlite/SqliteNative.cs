// SqliteNative.cs: the calls of SQLite's C interface that stand in the hot loops, without marshalling.
// Why beside Microsoft.Data.Sqlite: reading and binding a cell are calls of a few nanoseconds, and a safe handle, a span copy and a
// transition for each of them would cost several times that. Everything else goes through the ADO.NET driver.
// Source of the signatures: the SQLite C interface documentation. The calls marked SuppressGCTransition only touch memory of the
// statement; none of them waits, calls back, or runs long.
using System.Runtime.InteropServices;

namespace Transferra.Stores.Sqlite;

internal static unsafe partial class SqliteNative
{
    private const string Library = "e_sqlite3";

    public const int Ok = 0, Row = 100, Done = 101, Constraint = 19;
    // SQLITE_CONSTRAINT_NOTNULL
    public const int ConstraintNotNull = 1299;
    // SQLITE_FCNTL_FILE_POINTER
    public const int FilePointer = 7;
    public const int Integer = 1, Float = 2, Text = 3, Blob = 4, Null = 5;

    [LibraryImport(Library, EntryPoint = "sqlite3_prepare_v2")]
    public static partial int Prepare(nint database, byte* sql, int bytes, out nint statement, nint tail);

    [LibraryImport(Library, EntryPoint = "sqlite3_step")]
    public static partial int Step(nint statement);

    [LibraryImport(Library, EntryPoint = "sqlite3_reset")]
    public static partial int Reset(nint statement);

    [LibraryImport(Library, EntryPoint = "sqlite3_finalize")]
    public static partial int FinalizeStatement(nint statement);

    [LibraryImport(Library, EntryPoint = "sqlite3_errmsg")]
    public static partial byte* ErrorMessage(nint database);

    [LibraryImport(Library, EntryPoint = "sqlite3_extended_errcode")]
    public static partial int ExtendedCode(nint database);

    [LibraryImport(Library, EntryPoint = "sqlite3_file_control")]
    public static partial int FileControl(nint database, byte* name, int code, void* argument);

    [LibraryImport(Library, EntryPoint = "sqlite3_last_insert_rowid")]
    public static partial long LastInsertRowId(nint database);

    [LibraryImport(Library, EntryPoint = "sqlite3_column_type"), SuppressGCTransition]
    public static partial int ColumnType(nint statement, int column);

    [LibraryImport(Library, EntryPoint = "sqlite3_column_int64"), SuppressGCTransition]
    public static partial long ColumnInt64(nint statement, int column);

    [LibraryImport(Library, EntryPoint = "sqlite3_column_double"), SuppressGCTransition]
    public static partial double ColumnDouble(nint statement, int column);

    [LibraryImport(Library, EntryPoint = "sqlite3_column_blob"), SuppressGCTransition]
    public static partial byte* ColumnBlob(nint statement, int column);

    [LibraryImport(Library, EntryPoint = "sqlite3_column_bytes"), SuppressGCTransition]
    public static partial int ColumnBytes(nint statement, int column);

    [LibraryImport(Library, EntryPoint = "sqlite3_bind_int64"), SuppressGCTransition]
    public static partial int BindInt64(nint statement, int index, long value);

    [LibraryImport(Library, EntryPoint = "sqlite3_bind_double"), SuppressGCTransition]
    public static partial int BindDouble(nint statement, int index, double value);

    [LibraryImport(Library, EntryPoint = "sqlite3_bind_null"), SuppressGCTransition]
    public static partial int BindNull(nint statement, int index);

    [LibraryImport(Library, EntryPoint = "sqlite3_bind_text"), SuppressGCTransition]
    public static partial int BindText(nint statement, int index, byte* value, int bytes, nint lifetime);

    [LibraryImport(Library, EntryPoint = "sqlite3_bind_blob"), SuppressGCTransition]
    public static partial int BindBlob(nint statement, int index, byte* value, int bytes, nint lifetime);

    /// <summary>The engine's last message for a connection.</summary>
    public static string Message(nint database) => Marshal.PtrToStringUTF8((nint)ErrorMessage(database)) ?? "unknown error";

    /// <summary>Prepares a statement; the caller finalizes it.</summary>
    public static nint Prepare(nint database, string sql)
    {
        byte[] utf8 = System.Text.Encoding.UTF8.GetBytes(sql);
        fixed (byte* text = utf8)
        {
            int result = Prepare(database, text, utf8.Length, out nint statement, 0);
            return result == Ok ? statement : throw new InvalidOperationException($"{Message(database)} in: {sql}");
        }
    }
}
