// PlainFile.cs: reading of files that somebody named: only what is a file, after links are followed. A pipe would be waited for for ever,
// a device may never end.
// Holds: opening waits for nobody, whatever stands there, also when it was exchanged a moment ago.
using System.Runtime.InteropServices;
using System.Security.Cryptography;
using Microsoft.Win32.SafeHandles;

namespace Transferra.Core.Machine;

/// <summary>Opens files for reading.</summary>
public static class PlainFile
{
    private const int DefaultBuffer = 1 << 12;

    /// <summary>Opens a file for reading; others may write, rename and remove it meanwhile.</summary>
    /// <param name="path">The file.</param>
    /// <param name="bufferBytes">How much is read at a time; 0 for what the caller asks for.</param>
    /// <exception cref="IOException">It is not there, or is not a file.</exception>
    /// <exception cref="UnauthorizedAccessException">This user may not read it.</exception>
    public static FileStream Open(string path, int bufferBytes = DefaultBuffer) => new(OpenHandle(path), FileAccess.Read, bufferBytes);

    /// <summary>Opens a file for reading at any position.</summary>
    /// <inheritdoc cref="Open"/>
    public static SafeFileHandle OpenHandle(string path)
    {
        byte[] bytes = PosixFiles.Bytes(path);
        int opened = SystemCalls.Open(PosixFiles.Terminated(bytes), OpenFlags.ReadOnly | OpenFlags.NonBlocking | OpenFlags.CloseOnExec, 0);
        if (opened < 0) throw PosixFiles.Failed(Marshal.GetLastPInvokeError(), "read", bytes);
        var handle = new SafeFileHandle(opened, ownsHandle: true);
        byte[] raw = new byte[FileStat.RawBytes];
        if (SystemCalls.StatX(handle, [0], SystemCalls.HandleItself, FileStat.Wanted, raw) == 0
            && FileStat.FromStatX(raw).Kind == FileKind.File) return handle;
        handle.Dispose();
        throw new IOException($"cannot read {path}: it is {What(path)} and not a file");
    }

    /// <summary>The bytes of a plain file, which fits into memory.</summary>
    /// <exception cref="IOException">It is no plain file, or cannot be read.</exception>
    public static byte[] ReadBytes(string path)
    {
        using FileStream file = Open(path);
        using var bytes = new MemoryStream();
        file.CopyTo(bytes);
        return bytes.ToArray();
    }

    /// <summary>Everything in a small file, as UTF-8 unless it says otherwise.</summary>
    /// <inheritdoc cref="Open"/>
    public static string ReadText(string path)
    {
        using var reader = new StreamReader(Open(path));
        return reader.ReadToEnd();
    }

    /// <summary>The lines of a file, read as they are asked for.</summary>
    /// <inheritdoc cref="Open"/>
    public static IEnumerable<string> ReadLines(string path)
    {
        using var reader = new StreamReader(Open(path));
        while (reader.ReadLine() is { } line) yield return line;
    }

    /// <summary>SHA-256 of a file, lower-case hexadecimal; "" when it cannot be read.</summary>
    public static string DigestOf(string path)
    {
        try
        {
            using FileStream file = Open(path);
            return Convert.ToHexStringLower(SHA256.HashData(file));
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException) { return ""; }
    }

    /// <summary>Refuses what is there and is neither a file nor a folder.</summary>
    /// <param name="path">What somebody named.</param>
    /// <exception cref="IOException">It is a pipe, a socket or a device.</exception>
    public static void RefuseOther(string path)
    {
        if (PosixFiles.Stat(PosixFiles.Bytes(path),
            follow: true) is { Kind: FileKind.Other }) throw new IOException($"cannot read {path}: it is {What(path)} and not a file");
    }

    private static string What(string path) => PosixFiles.Stat(PosixFiles.Bytes(path), follow: true)?.Kind == FileKind.Folder ? "a folder"
        : "a pipe, a socket or a device";
}
