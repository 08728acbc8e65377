// ZstdFrames.cs: single zstd frames (RFC 8878), each with the size of its content and a checksum of it.
// Why two ways: the system's own library packs about three times as fast as the managed one; every Linux with systemd has it. Where it
// is missing the managed one does the same work. Frames of either are read by both.
using System.Runtime.InteropServices;
using ZstdSharp;
using ZstdSharp.Unsafe;

namespace Transferra.Core.Backup;

/// <summary>Packs and unpacks frames. Used by one thread at a time.</summary>
internal abstract partial class ZstdFrames : IDisposable
{
    private const int Level = 3;

    /// <summary>Whether the system's library is there.</summary>
    public static bool IsNative { get; } = NativeLibrary.TryLoad(NativeFrames.Library, out _);

    /// <summary>The faster one there is.</summary>
    public static ZstdFrames Create() => IsNative ? new NativeFrames() : new ManagedFrames();

    /// <summary>The managed one.</summary>
    public static ZstdFrames CreateManaged() => new ManagedFrames();

    /// <summary>The most bytes a frame with so much content can have.</summary>
    public static int Bound(int contentBytes) => Compressor.GetCompressBound(contentBytes);

    /// <summary>Packs content into one frame.</summary>
    /// <returns>Bytes of the frame.</returns>
    public abstract int Pack(ReadOnlySpan<byte> content, Span<byte> frame);

    /// <summary>Unpacks one frame.</summary>
    /// <returns>Bytes of the content; -1 when the frame is damaged or its content does not fit.</returns>
    public abstract int Unpack(ReadOnlySpan<byte> frame, Span<byte> content);

    /// <inheritdoc/>
    public abstract void Dispose();

    private sealed class ManagedFrames : ZstdFrames
    {
        private readonly Compressor _compressor = new(Level);
        private readonly Decompressor _decompressor = new();

        public ManagedFrames() => _compressor.SetParameter(ZSTD_cParameter.ZSTD_c_checksumFlag, 1);

        public override int Pack(ReadOnlySpan<byte> content, Span<byte> frame) => _compressor.Wrap(content, frame);

        public override int Unpack(ReadOnlySpan<byte> frame, Span<byte> content)
        {
            try { return _decompressor.Unwrap(frame, content); }
            catch (ZstdException) { return -1; }
        }

        public override void Dispose()
        {
            _compressor.Dispose();
            _decompressor.Dispose();
        }
    }

    private sealed partial class NativeFrames : ZstdFrames
    {
        public const string Library = "libzstd.so.1";

        // Numbers of zstd.h, which the library keeps stable.
        private const int CompressionLevel = 100, ChecksumFlag = 201;
        private readonly nint _packing = CreatePacking(), _unpacking = CreateUnpacking();

        public NativeFrames()
        {
            _ = SetParameter(_packing, CompressionLevel, Level);
            _ = SetParameter(_packing, ChecksumFlag, 1);
        }

        public override int Pack(ReadOnlySpan<byte> content, Span<byte> frame)
        {
            nuint size = Compress(_packing, ref MemoryMarshal.GetReference(frame), (nuint)frame.Length,
                in MemoryMarshal.GetReference(content), (nuint)content.Length);
            return IsError(size) == 0 ? (int)size : throw new InvalidOperationException("zstd could not pack: "
                + Marshal.PtrToStringUTF8(ErrorName(size)));
        }

        public override int Unpack(ReadOnlySpan<byte> frame, Span<byte> content)
        {
            nuint size = Decompress(_unpacking, ref MemoryMarshal.GetReference(content), (nuint)content.Length,
                in MemoryMarshal.GetReference(frame), (nuint)frame.Length);
            return IsError(size) == 0 ? (int)size : -1;
        }

        public override void Dispose()
        {
            _ = FreePacking(_packing);
            _ = FreeUnpacking(_unpacking);
        }

        [LibraryImport(Library, EntryPoint = "ZSTD_createCCtx")]
        private static partial nint CreatePacking();

        [LibraryImport(Library, EntryPoint = "ZSTD_freeCCtx")]
        private static partial nuint FreePacking(nint context);

        [LibraryImport(Library, EntryPoint = "ZSTD_createDCtx")]
        private static partial nint CreateUnpacking();

        [LibraryImport(Library, EntryPoint = "ZSTD_freeDCtx")]
        private static partial nuint FreeUnpacking(nint context);

        [LibraryImport(Library, EntryPoint = "ZSTD_CCtx_setParameter")]
        private static partial nuint SetParameter(nint context, int parameter, int value);

        [LibraryImport(Library, EntryPoint = "ZSTD_compress2")]
        private static partial nuint Compress(nint context, ref byte target, nuint capacity, in byte source, nuint size);

        [LibraryImport(Library, EntryPoint = "ZSTD_decompressDCtx")]
        private static partial nuint Decompress(nint context, ref byte target, nuint capacity, in byte source, nuint size);

        [LibraryImport(Library, EntryPoint = "ZSTD_isError")]
        private static partial uint IsError(nuint code);

        [LibraryImport(Library, EntryPoint = "ZSTD_getErrorName")]
        private static partial nint ErrorName(nuint code);
    }
}

/// <summary>Frames for as many threads as ask at a time.</summary>
internal sealed class ZstdPool : IDisposable
{
    private readonly System.Collections.Concurrent.ConcurrentBag<ZstdFrames> _idle = [];

    /// <summary>Frames that nobody else uses until they are given back.</summary>
    public ZstdFrames Take() => _idle.TryTake(out ZstdFrames? frames) ? frames : ZstdFrames.Create();

    /// <summary>Gives frames back.</summary>
    public void Give(ZstdFrames frames) => _idle.Add(frames);

    /// <inheritdoc/>
    public void Dispose()
    {
        while (_idle.TryTake(out ZstdFrames? frames)) frames.Dispose();
    }
}
