// SqliteThinCopy.cs: a copy of a SQLite file in which some tables, and their indexes, have no entries: those that a hop fills anew.
// Why: of a file that is mostly one table, a whole copy would be written, read to take the table out, and written over.
// How: the pages of everything else are copied to where they were; each table left out gets an empty leaf for a root; whatever page
// nothing leads to is put on the list of free pages, and is a hole in the file until the engine takes it.
// Source: "The SQLite Database File Format", sections 1.3 (header), 1.5 (free pages), 1.6 (b-tree pages).
// Holds: (1) the engine finds the copy sound, with the same entries in all other trees; (2) a file that is not laid out
// exactly as that document says, or in a way that this class does not know, is not copied: false, and nothing is there.
using System.Buffers.Binary;
using Microsoft.Win32.SafeHandles;

namespace Transferra.Stores.Sqlite;

internal sealed class SqliteThinCopy
{
    // Pages that follow each other are written so many bytes at a time.
    private const int RunBytes = 1 << 20;

    // Offsets in the file's header, and what a trunk of the list of free pages does not use of its room (section 1.5).
    private const int FirstFree = 32, FreeCount = 36, LargestRoot = 52, UnusedOfTrunk = 8;

    // The engine keeps its locks there and never uses that page (section 1.4).
    private const long LockByte = 1 << 30;

    private readonly SqlitePageFile _pages;
    private readonly SafeFileHandle _to;
    private readonly SqliteTreeWalk _walk;
    private readonly byte[] _run, _first;
    private long _runFrom;
    private int _runPages;

    private SqliteThinCopy(SqlitePageFile pages, SafeFileHandle to)
    {
        (_pages, _to) = (pages, to);
        _walk = new SqliteTreeWalk(pages.Again(), Take);
        _run = new byte[Math.Max(RunBytes, pages.PageBytes)];
        _first = new byte[pages.PageBytes];
    }

    /// <summary>Makes a copy.</summary>
    /// <param name="pages">The old file.</param>
    /// <param name="kept">Roots of the trees that are copied, but for that of the schema, which always is.</param>
    /// <param name="emptied">Roots of the trees of which nothing but an empty root is to be there.</param>
    /// <param name="to">The new file, for its owner alone; must not be there. It is not flushed to the disk.</param>
    /// <returns>False when this file is to be copied as a whole; there is no new file then.</returns>
    public static bool TryMake(SqlitePageFile pages, IReadOnlyList<long> kept, IReadOnlyList<long> emptied, string to)
    {
        // What an extension keeps at the end of pages, a sum of them, say, is not ours to make.
        if (pages.UsableBytes != pages.PageBytes) return false;
        using var file = new FileStream(to, new FileStreamOptions
        {
            Mode = FileMode.CreateNew,
            Access = FileAccess.Write,
            BufferSize = 0,
            UnixCreateMode = UnixFileMode.UserRead | UnixFileMode.UserWrite,
        });
        bool isMade = false;
        try
        {
            return isMade = new SqliteThinCopy(pages, file.SafeFileHandle).TryCopy(kept, emptied);
        }
        finally
        {
            if (!isMade) File.Delete(to);
        }
    }

    private bool TryCopy(IReadOnlyList<long> kept, IReadOnlyList<long> emptied)
    {
        long lockPage = (LockByte / _pages.PageBytes) + 1;
        if (lockPage <= _pages.Pages && !_walk.Reserve(lockPage)) return false;
        foreach (long root in emptied)
            if (!_walk.Reserve(root)) return false;
        RandomAccess.SetLength(_to, _pages.Pages * _pages.PageBytes);
        // A file that vacuums itself has pages that tell where others belong.
        if (!_walk.Walk(1) || BinaryPrimitives.ReadUInt32BigEndian(_first.AsSpan(LargestRoot)) != 0) return false;
        foreach (long root in kept)
            if (!_walk.Walk(root)) return false;
        foreach (long root in emptied)
            if (!TryEmpty(root)) return false;
        FreeTheRest();
        WriteRun();
        Write(1, _first);
        return true;
    }

    // Page 1 comes last, with the list of free pages in it.
    private void Take(long page, ReadOnlySpan<byte> content)
    {
        if (page == 1)
        {
            content.CopyTo(_first);
            return;
        }
        if (page != _runFrom + _runPages || (_runPages + 1) * _pages.PageBytes > _run.Length)
        {
            WriteRun();
            _runFrom = page;
        }
        content.CopyTo(_run.AsSpan(_runPages++ * _pages.PageBytes));
    }

    private void WriteRun()
    {
        if (_runPages == 0) return;
        Write(_runFrom, _run.AsSpan(0, _runPages * _pages.PageBytes));
        _runPages = 0;
    }

    private void Write(long page, ReadOnlySpan<byte> content) => RandomAccess.Write(_to, content, (page - 1) * _pages.PageBytes);

    private bool TryEmpty(long root)
    {
        if (!_pages.TryGet(root, out ReadOnlySpan<byte> was)) return false;
        byte[] page = new byte[_pages.PageBytes];
        switch (was[0])
        {
            case SqliteBtreePages.LeafOfTable or SqliteBtreePages.InteriorOfTable: page[0] = SqliteBtreePages.LeafOfTable; break;
            case SqliteBtreePages.LeafOfIndex or SqliteBtreePages.InteriorOfIndex: page[0] = SqliteBtreePages.LeafOfIndex; break;
            default: return false;
        }
        // Where cells begin: at the end, as there are none; 0 stands for 65,536.
        BinaryPrimitives.WriteUInt16BigEndian(page.AsSpan(5), unchecked((ushort)_pages.UsableBytes));
        Take(root, page);
        return true;
    }

    // Trunk pages, each with the number of the next one, and of the pages that it lists; the first pages of the file first.
    private void FreeTheRest()
    {
        long first = 0, count = 0;
        long[]? before = null;
        foreach (long[] group in Free().Chunk((_pages.UsableBytes / 4) - UnusedOfTrunk + 1))
        {
            if (before is null) first = group[0];
            else TakeTrunk(before, group[0]);
            (before, count) = (group, count + group.Length);
        }
        if (before is not null) TakeTrunk(before, 0);
        BinaryPrimitives.WriteUInt32BigEndian(_first.AsSpan(FirstFree), (uint)first);
        BinaryPrimitives.WriteUInt32BigEndian(_first.AsSpan(FreeCount), (uint)count);
    }

    private IEnumerable<long> Free()
    {
        for (long page = 2; page <= _pages.Pages; page++)
            if (!_walk.Has(page)) yield return page;
    }

    private void TakeTrunk(long[] group, long next)
    {
        byte[] page = new byte[_pages.PageBytes];
        BinaryPrimitives.WriteUInt32BigEndian(page, (uint)next);
        BinaryPrimitives.WriteUInt32BigEndian(page.AsSpan(4), (uint)(group.Length - 1));
        for (int i = 1; i < group.Length; i++) BinaryPrimitives.WriteUInt32BigEndian(page.AsSpan(4 + (4 * i)), (uint)group[i]);
        Take(group[0], page);
    }
}
