// SetSeal.cs: the last 2,048 bytes of a set: a tar member that holds the SHA-256 of every byte before it, and tar's end mark.
// Why made by hand and not by the tar library: a reader must know every one of these bytes, or a change in them would go unnoticed.
// Layout: POSIX.1-1988 ustar header (512 bytes), 64 hexadecimal digits padded with zeros (512), two blocks of zeros (1,024).
using System.Text;

namespace Transferra.Core.Backup;

internal static class SetSeal
{
    private const int Block = 512;

    /// <summary>Size of the seal with the end mark behind it.</summary>
    public const int Bytes = 4 * Block;

    /// <summary>Name of the member.</summary>
    public const string Name = "seal.sha256";

    /// <summary>The seal's bytes.</summary>
    /// <param name="digest">64 hexadecimal digits: SHA-256 of everything before the seal.</param>
    /// <param name="madeAt">The set's time; whole seconds are kept.</param>
    public static byte[] Of(string digest, DateTimeOffset madeAt)
    {
        byte[] bytes = new byte[Bytes];
        Field(0, Name);
        Octal(100, 8, 0x1A4); // mode 644
        Octal(108, 8, 0);
        Octal(116, 8, 0);
        Octal(124, 12, digest.Length);
        Octal(136, 12, Math.Max(0, madeAt.ToUnixTimeSeconds()));
        Field(148, "        "); // the checksum counts as blanks while it is computed
        bytes[156] = (byte)'0';
        Field(257, "ustar\0" + "00");
        int sum = 0;
        foreach (byte value in bytes.AsSpan(0, Block)) sum += value;
        Field(148, Convert.ToString(sum, 8).PadLeft(6, '0') + "\0 ");
        Field(Block, digest);
        return bytes;

        void Field(int at, string text) => Encoding.ASCII.GetBytes(text, bytes.AsSpan(at));

        void Octal(int at, int width, long value) => Field(at, Convert.ToString(value, 8).PadLeft(width - 1, '0'));
    }

    /// <summary>What is wrong with the end of a set, in words; null when it is the seal of what stands before it.</summary>
    public static string? Judge(ReadOnlySpan<byte> end, string digest, DateTimeOffset madeAt)
    {
        byte[] wanted = Of(digest, madeAt);
        if (end.SequenceEqual(wanted)) return null;
        return end.Length == Bytes && end[..Block].SequenceEqual(wanted.AsSpan(0, Block))
            ? "the set is not as it was sealed: its tar headers, padding, manifest or seal were changed"
            : "the set does not end with its seal: it was cut off, or something stands behind it";
    }
}
