// WriteBehind.cs: what is written to a new file goes to the disk while the rest is still being made, and is read from there again at
// once, behind the writing.
// Why: a set is proved by what the disk holds and not by what memory does. Read back while the rest is written, most of it is at hand
// when the proof wants it, and yet came from the disk.
// Holds: (1) when Finish returns, the file is on the disk, and, where the volume lets itself be told so, no page of it is in memory as it
// was written: each was
//        dropped, and is either not there or was read from the disk after that; (2) when Dispose returns, nothing uses the file any more.
using System.Collections.Concurrent;
using Microsoft.Win32.SafeHandles;
using Transferra.Core.Machine;

namespace Transferra.Core.Backup;

/// <summary>Follows the writing of one file. Its members are called by the thread that writes.</summary>
internal sealed class WriteBehind : IDisposable
{
    private const int PartBytes = 16 << 20, ReadBytes = 1 << 20;
    private static readonly long PageMask = Environment.SystemPageSize - 1;

    // What is read back early must still be in memory when the proof comes to it, so that no more than some of the memory is filled; the
    // proof reads the rest from the disk itself. The collector may not have looked yet how much memory there is.
    private static readonly long MostReadBack = Math.Max(GC.GetGCMemoryInfo().TotalAvailableMemoryBytes, 1L << 30) / 4;

    private readonly SafeFileHandle _file;
    private readonly BlockingCollection<(long From, long Bytes)> _parts = [];
    private readonly List<(long From, long Bytes)> _late = [];
    private readonly Thread _thread;
    private long _begun;
    private volatile bool _isStopped;

    public WriteBehind(SafeFileHandle file)
    {
        _file = file;
        // A thread of its own: it waits for the disk most of the time, and would keep one of the pool's few threads from packing.
        _thread = new Thread(Follow) { IsBackground = true, Name = "write behind" };
        _thread.Start();
    }

    /// <summary>Bytes were written.</summary>
    public void Wrote(long position, long bytes)
    {
        long end = position + bytes;
        if (position < _begun) _late.Add((position, bytes));
        if (end - _begun < PartBytes) return;
        end &= ~PageMask; // a page that is written in two halves belongs to the next part
        PosixFiles.BeginFlush(_file, _begun, end - _begun);
        _parts.Add((_begun, end - _begun));
        _begun = end;
    }

    private void Follow()
    {
        byte[] buffer = new byte[ReadBytes];
        foreach ((long from, long bytes) in _parts.GetConsumingEnumerable())
        {
            if (_isStopped) continue;
            PosixFiles.FinishFlush(_file, from, bytes);
            PosixFiles.ForgetCached(_file, from, bytes);
            if (from + bytes > MostReadBack) continue;
            try
            {
                for (long at = from; at < from + bytes && !_isStopped;)
                {
                    int read = RandomAccess.Read(_file, buffer.AsSpan(0, (int)Math.Min(buffer.Length, from + bytes - at)), at);
                    if (read <= 0) break;
                    at += read;
                }
            }
            catch (IOException) { /* the proof comes upon it and tells where */ }
        }
    }

    /// <summary>Puts everything on the disk.</summary>
    public void Finish()
    {
        RandomAccess.FlushToDisk(_file);
        _parts.CompleteAdding();
        _thread.Join();
        // What was written into room that had been left, and the end of the file.
        foreach ((long from, long bytes) in _late)
        {
            long page = from & ~PageMask;
            PosixFiles.ForgetCached(_file, page, ((from + bytes + PageMask) & ~PageMask) - page);
        }
        PosixFiles.ForgetCached(_file, _begun, 0);
    }

    /// <inheritdoc/>
    public void Dispose()
    {
        _isStopped = true;
        if (!_parts.IsAddingCompleted) _parts.CompleteAdding();
        _thread.Join();
        _parts.Dispose();
    }
}
