// Sparse.cs: writing of files with holes.
using Microsoft.Win32.SafeHandles;

namespace Transferra.Core.Backup;

/// <summary>Writing with holes.</summary>
internal static class Sparse
{
    private const int HoleBytes = 4096;

    /// <summary>Writes content at a position; stretches of zeros are passed over when the file is to have holes.</summary>
    public static void Write(SafeFileHandle file, long position, ReadOnlySpan<byte> content, bool leavesHoles)
    {
        if (!leavesHoles)
        {
            RandomAccess.Write(file, content, position);
            return;
        }
        for (int at = 0; at < content.Length; at += HoleBytes)
        {
            ReadOnlySpan<byte> part = content[at..Math.Min(content.Length, at + HoleBytes)];
            if (part.ContainsAnyExcept((byte)0)) RandomAccess.Write(file, part, position + at);
        }
    }
}
