// SetFile.cs: the bytes of a set, wherever it is and whether it is locked or not, read at any position and written once.
using Microsoft.Win32.SafeHandles;
using Transferra.Core.Machine;

namespace Transferra.Core.Backup;

/// <summary>The bytes of a set, for reading. Calls from several threads at a time are fine.</summary>
public interface ISetFile : IDisposable
{
    /// <summary>How many there are.</summary>
    long Length { get; }

    /// <summary>Reads until the buffer is full or the file ends.</summary>
    /// <returns>How many bytes were read.</returns>
    /// <exception cref="IOException">The place cannot be read.</exception>
    /// <exception cref="InvalidDataException">What is there is damaged: only of a locked set, whose bytes prove themselves.</exception>
    int ReadAt(long position, Span<byte> buffer);

    /// <summary>Makes the next reading come from the disk and not from memory, where that can be had.</summary>
    void ForgetCached() { }
}

/// <summary>The bytes of a set on a disk of this machine.</summary>
public sealed class LocalSetFile : ISetFile
{
    /// <summary>Opens a file for reading.</summary>
    public LocalSetFile(string path)
    {
        Handle = PlainFile.OpenHandle(path);
        Length = RandomAccess.GetLength(Handle);
    }

    /// <inheritdoc/>
    public long Length { get; }

    internal SafeFileHandle Handle { get; }

    /// <inheritdoc/>
    public int ReadAt(long position, Span<byte> buffer)
    {
        int done = 0;
        for (int read; done < buffer.Length && (read = RandomAccess.Read(Handle, buffer[done..], position + done)) > 0;) done += read;
        return done;
    }

    /// <inheritdoc/>
    public void ForgetCached() => PosixFiles.ForgetCached(Handle);

    /// <inheritdoc/>
    public void Dispose() => Handle.Dispose();
}

/// <summary>Where the bytes of a new set go: one behind the other, but for places that are left and filled when it is known what belongs
/// there.</summary>
internal interface ISetSink : IDisposable
{
    /// <summary>Adds bytes behind those that were added before.</summary>
    void Append(ReadOnlySpan<byte> bytes);

    /// <summary>Adds a part of another set's file; its bytes are taken as they are.</summary>
    void AppendFrom(ISetFile source, long position, long bytes);

    /// <summary>Leaves room for bytes that come later.</summary>
    /// <returns>Where it is.</returns>
    long Leave(int bytes);

    /// <summary>Fills room that was left, or a part of it; each byte of it once.</summary>
    void Fill(long position, ReadOnlySpan<byte> bytes);

    /// <summary>Puts everything on the disk; what is read of it afterwards comes from there. All room that was left is filled by
    /// now.</summary>
    void Finish();
}

/// <summary>A new set as a plain file.</summary>
internal sealed class PlainSink : ISetSink
{
    private const int CopyBytes = 1 << 20, StepBytes = 16 << 20;
    private readonly SafeFileHandle _file;
    private readonly WriteBehind _behind;
    private long _end;

    /// <summary>Begins a set in a file that must not be there.</summary>
    public PlainSink(string path)
    {
        _file = File.OpenHandle(path, FileMode.CreateNew, FileAccess.ReadWrite, FileShare.Read);
        _behind = new WriteBehind(_file);
    }

    public void Append(ReadOnlySpan<byte> bytes)
    {
        RandomAccess.Write(_file, bytes, _end);
        _behind.Wrote(_end, bytes.Length);
        _end += bytes.Length;
    }

    public void AppendFrom(ISetFile source, long position, long bytes)
    {
        // Step by step, so that the disk has work from the beginning.
        for (long step; bytes > 0; position += step, bytes -= step)
        {
            step = Math.Min(bytes, StepBytes);
            if (source is not LocalSetFile local || !PosixFiles.CopyRange(local.Handle, position, _file, _end, step))
            {
                Sinks.Copy(source, position, step, CopyBytes, Append);
                continue;
            }
            _behind.Wrote(_end, step);
            _end += step;
        }
    }

    public long Leave(int bytes)
    {
        long at = _end;
        _end += bytes;
        return at;
    }

    public void Fill(long position, ReadOnlySpan<byte> bytes)
    {
        RandomAccess.Write(_file, bytes, position);
        _behind.Wrote(position, bytes.Length);
    }

    public void Finish() => _behind.Finish();

    public void Dispose()
    {
        _behind.Dispose();
        _file.Dispose();
    }
}

internal static class Sinks
{
    public delegate void Appender(ReadOnlySpan<byte> bytes);

    public static void Copy(ISetFile source, long position, long bytes, int atATime, Appender append)
    {
        byte[] buffer = new byte[(int)Math.Min(bytes, atATime)];
        while (bytes > 0)
        {
            Span<byte> part = buffer.AsSpan(0, (int)Math.Min(bytes, buffer.Length));
            if (source.ReadAt(position, part) != part.Length) throw new InvalidDataException("the earlier set ended too soon");
            append(part);
            position += part.Length;
            bytes -= part.Length;
        }
    }
}
