// HexDigest.cs: a digest in hexadecimal digits, kept in the bytes it stands for: as a text it would take four times as much, and a set of
// 100,000 documents has 300,000 of them.
// Holds: (1) the text that comes out is the one that went in, whatever it was.
namespace Transferra.Core.Machine;

/// <summary>A digest of up to 32 bytes as lower-case hexadecimal digits.</summary>
internal readonly record struct HexDigest
{
    private const int MostBytes = 32;

    private readonly UInt128 _first, _last;
    private readonly byte _bytes;

    // What is no such digest is kept as it is.
    private readonly string? _other;

    private HexDigest(string text)
    {
        Span<byte> bytes = stackalloc byte[MostBytes];
        bytes.Clear();
        if (text.Length > 0 && text.Length % 2 == 0 && text.Length <= 2 * MostBytes && text.All(char.IsAsciiHexDigitLower))
        {
            Convert.FromHexString(text, bytes, out _, out int written);
            (_first, _last, _bytes) = (Half(bytes), Half(bytes[16..]), (byte)written);
        }
        else _other = text;
    }

    private static UInt128 Half(ReadOnlySpan<byte> bytes) => System.Buffers.Binary.BinaryPrimitives.ReadUInt128BigEndian(bytes);

    private HexDigest(ReadOnlySpan<byte> known)
    {
        Span<byte> bytes = stackalloc byte[MostBytes];
        bytes.Clear();
        known.CopyTo(bytes);
        (_first, _last, _bytes) = (Half(bytes), Half(bytes[16..]), (byte)known.Length);
    }

    /// <summary>Writes it: how many bytes it has, and these; 0 and a text where it is no such digest.</summary>
    public void Write(EntryWriter writer)
    {
        writer.Number(_bytes);
        if (_bytes == 0)
        {
            writer.Text(_other);
            return;
        }
        Span<byte> bytes = stackalloc byte[MostBytes];
        System.Buffers.Binary.BinaryPrimitives.WriteUInt128BigEndian(bytes, _first);
        System.Buffers.Binary.BinaryPrimitives.WriteUInt128BigEndian(bytes[16..], _last);
        writer.Raw(bytes[.._bytes]);
    }

    /// <summary>Reads one.</summary>
    public static HexDigest Read(ref EntryReader reader) => reader.Number() switch
    {
        0 => reader.Text() is { } other ? new HexDigest(other) : default,
        long bytes => new HexDigest(reader.Raw((int)bytes))
    };

    /// <summary>Keeps a text; null is none.</summary>
    public static HexDigest Of(string? text) => text is null ? default : new HexDigest(text);

    /// <summary>The text; null when there is none.</summary>
    public string? Text
    {
        get
        {
            if (_bytes == 0) return _other;
            Span<byte> bytes = stackalloc byte[MostBytes];
            System.Buffers.Binary.BinaryPrimitives.WriteUInt128BigEndian(bytes, _first);
            System.Buffers.Binary.BinaryPrimitives.WriteUInt128BigEndian(bytes[16..], _last);
            return Convert.ToHexStringLower(bytes[.._bytes]);
        }
    }
}
