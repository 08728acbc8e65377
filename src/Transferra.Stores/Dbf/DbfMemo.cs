// DbfMemo.cs: the memo file beside a .dbf table: long texts and binary values, in blocks that records point to.
// Layout of the three forms: docs/formats/dbf.md. Holds: (1) a pointer that leads outside the file, or a length that does, is a fault of
// the record, never a crash; (2) a value is never longer than the file, so a damaged length cannot ask for more memory than there is data.
using System.Buffers.Binary;
using System.Globalization;
using Transferra.Core.Machine;

namespace Transferra.Stores.Dbf;

/// <summary>Reads memo values.</summary>
internal sealed class DbfMemo : IDisposable
{
    private const int DbtBlock = 512, FptHeader = 512;

    private readonly FileStream _file;
    private readonly MemoForm _form;
    private readonly int _blockBytes;
    private byte[] _value = [];

    private DbfMemo(FileStream file, MemoForm form, int blockBytes) => (_file, _form, _blockBytes) = (file, form, blockBytes);

    /// <summary>Opens the memo file of a table; null when it is not there.</summary>
    public static DbfMemo? Open(string dbfPath, MemoForm form)
    {
        string? path = form == MemoForm.None ? null : DbfFolder.Beside(dbfPath, form == MemoForm.Fpt ? ".fpt" : ".dbt");
        if (path is null) return null;
        var file = PlainFile.Open(path, 1 << 16);
        Span<byte> header = stackalloc byte[24];
        int read = file.ReadAtLeast(header, header.Length, throwOnEndOfStream: false);
        int block = read < header.Length ? 0 : form switch
        {
            MemoForm.Fpt => BinaryPrimitives.ReadUInt16BigEndian(header[6..]),
            MemoForm.DbtWithLength => BinaryPrimitives.ReadUInt16LittleEndian(header[20..]),
            _ => DbtBlock,
        };
        // A header that says nothing means the usual size; FoxPro calls one byte a block 0.
        return new DbfMemo(file, form, block > 0 ? block : form == MemoForm.Fpt ? 1 : DbtBlock);
    }

    /// <summary>The first byte that the value read last takes in the file, and the one behind its last.</summary>
    public (long Start, long End) LastPlace { get; private set; }

    /// <summary>Reads the value that a record points to.</summary>
    /// <param name="block">The pointer.</param>
    /// <param name="value">Valid until the next call.</param>
    /// <param name="fault">Why it could not be read, with the byte offset; "" when it could.</param>
    public bool TryRead(long block, out ReadOnlySpan<byte> value, out string fault)
    {
        value = default;
        fault = "";
        long start = block * _blockBytes;
        if (block <= 0 || start >= _file.Length || (_form == MemoForm.Fpt && start < Math.Min(FptHeader, _blockBytes)))
        {
            fault = string.Create(CultureInfo.InvariantCulture,
                $"it points to block {block} of the memo file, offset {start}, and the file has {_file.Length} bytes");
            return false;
        }
        _file.Position = start;
        bool read = _form == MemoForm.DbtToEndMark ? ReadToEndMark(start, out value, out fault) : ReadWithLength(start, out value,
            out fault);
        LastPlace = (start, start + value.Length + (_form == MemoForm.DbtToEndMark ? 1 : 8));
        return read;
    }

    private bool ReadWithLength(long start, out ReadOnlySpan<byte> value, out string fault)
    {
        value = default;
        fault = "";
        Span<byte> head = stackalloc byte[8];
        if (_file.ReadAtLeast(head, 8, throwOnEndOfStream: false) < 8)
        {
            fault = FormattableString.Invariant($"its memo block at offset {start} is cut off");
            return false;
        }
        long length;
        if (_form == MemoForm.Fpt) length = BinaryPrimitives.ReadUInt32BigEndian(head[4..]);
        else
        {
            if (BinaryPrimitives.ReadUInt32LittleEndian(head) != 0x0008FFFF)
            {
                fault = FormattableString.Invariant($"its memo block at offset {start} does not begin with FF FF 08 00");
                return false;
            }
            length = BinaryPrimitives.ReadUInt32LittleEndian(head[4..]) - 8L;
        }
        if (length < 0 || start + 8 + length > _file.Length || length > Array.MaxLength)
        {
            fault = string.Create(CultureInfo.InvariantCulture,
                $"its memo block at offset {start} says that it has {length} bytes, and the file ends at {_file.Length}");
            return false;
        }
        if (_value.Length < length) _value = new byte[Math.Max(length, 4096)];
        _file.ReadExactly(_value.AsSpan(0, (int)length));
        value = _value.AsSpan(0, (int)length);
        return true;
    }

    private bool ReadToEndMark(long start, out ReadOnlySpan<byte> value, out string fault)
    {
        value = default;
        fault = "";
        int length = 0;
        while (true)
        {
            if (_value.Length - length < DbtBlock) Array.Resize(ref _value, Math.Max(4096, _value.Length * 2));
            int read = _file.Read(_value.AsSpan(length, DbtBlock));
            int mark = _value.AsSpan(length, read).IndexOf((byte)0x1A);
            if (mark >= 0)
            {
                value = _value.AsSpan(0, length + mark);
                return true;
            }
            if (read == 0)
            {
                fault = string.Create(CultureInfo.InvariantCulture,
                    $"its memo at offset {start} has no end mark 1A before the file ends at {_file.Length}");
                return false;
            }
            length += read;
        }
    }

    public void Dispose() => _file.Dispose();
}
