// BegunStore.cs: what all engines say and do when a store that was begun is continued.
using Transferra.Core.Records;

namespace Transferra.Stores.Files;

internal static class BegunStore
{
    /// <summary>The shapes of the tables that a mark names.</summary>
    /// <exception cref="CannotContinueException">One of them is not among those given.</exception>
    public static IReadOnlyList<(TableShape Shape, BuiltTable Built)> Tables(string where, IReadOnlyList<TableShape> tables,
        BuildMark mark) =>
        [.. mark.Tables.Select(made => (tables.FirstOrDefault(table => table.Name == made.Key)
            ?? throw Unfit(where, $"the table {made.Key} is not one of this version"), made.Value))];

    /// <summary>That it cannot be continued.</summary>
    public static CannotContinueException Unfit(string where, string why, Exception? error = null) => new(where, why, error);

    /// <summary>Opens a file, drops what lies behind a mark, and goes to the end.</summary>
    public static FileStream OpenAt(string path, long end)
    {
        FileStream? file = null;
        try
        {
            file = new FileStream(path, FileMode.Open, FileAccess.ReadWrite, FileShare.None, 1 << 16);
            if (file.Length < end) throw Unfit(path, FormattableString.Invariant($"it has {file.Length} bytes, and had {end}"));
            file.SetLength(end);
            file.Seek(0, SeekOrigin.End);
            return file;
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException)
        {
            file?.Dispose();
            throw Unfit(path, error.Message, error);
        }
        catch
        {
            file?.Dispose();
            throw;
        }
    }

    /// <summary>Removes the files of a folder that no table of the mark has, and that a copy did not bring.</summary>
    public static void RemoveOthers(string folder, BuildMark mark)
    {
        if (!Directory.Exists(folder)) throw Unfit(folder, "it is not there");
        foreach (string file in Directory.GetFiles(folder))
            if (!mark.Tables.ContainsKey(Path.GetFileNameWithoutExtension(file))
                && mark.Copy?.Stays.Contains(Path.GetFileName(file)) != true) File.Delete(file);
    }

    /// <exception cref="CannotContinueException">A table has not the rows it had.</exception>
    public static void ProveRows(string where, string table, long counted, BuiltTable built)
    {
        if (counted != built.Rows)
            throw Unfit(where, FormattableString.Invariant($"{table} has {counted} records, and had {built.Rows}"));
    }
}
