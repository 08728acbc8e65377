// FbOwnBackup.cs: the engine's own backup of a database, streamed through its service, and a database made again from such a stream.
// Why not the driver's two classes alone: when a server ends its backup just as an answer is full, it says "that was all", and the last
// kilobyte or less never comes (seen with 3.0 on a busy machine, one time in ten); the backup is then short, and nobody is told. And a
// server that needs more than a stream has is not told of its end by the driver, but asked for ever what it wants.
// Holds: (1) a backup has all of its bytes, or is refused; (2) making a database again of a backup that is cut off ends, with an error in
// words, and leaves no database.
using FirebirdSql.Data.FirebirdClient;
using FirebirdSql.Data.Services;
using Transferra.Core.Machine;
using Transferra.Core.Records;
using Transferra.Stores.Servers;

namespace Transferra.Stores.Firebird;

internal static class FbOwnBackup
{
    // How many bytes an answer of the server may have; it counts them in 16 bits. Where one loses the end, the next one ends elsewhere.
    private static readonly int[] _answerBytes = [65_000, 57_713, 49_391, 42_023, 36_607, 30_011, 22_541, 12_343];

    // The engine fills its backup up to whole blocks, with whatever its buffer held before; the mark of the end is in the last of them.
    // The same in all versions of the engine, as all read the backups of those before (its sources, burp.h: BURP_BLOCK, rec_end).
    private const int BlockBytes = 512;
    private const byte EndMark = 10;

    // So often a server may ask for more than there is before it is taken at its word.
    private const int MostVainAnswers = 100;

    /// <summary>Writes the engine's backup of a database.</summary>
    /// <param name="from">The database.</param>
    /// <param name="to">Gets it, behind what it has; can be cut to a length.</param>
    /// <param name="parts">What of it; all when zero.</param>
    /// <exception cref="FbException">The server refused, or stopped.</exception>
    /// <exception cref="TransferraException">It never came with its end.</exception>
    public static void Write(StoreAddress from, Stream to, FbBackupFlags parts = 0) => Write(to, from.Shown, (stream, answerBytes) =>
        new FbStreamingBackup(FbLink.Describe(from)) { OutputStream = stream, Options = parts, QueryBufferSize = answerBytes }.Execute());

    /// <summary>Writes one, as often as it takes.</summary>
    /// <param name="to">Gets it.</param>
    /// <param name="shown">The database, in words.</param>
    /// <param name="backUp">Writes it to a stream, in answers of so many bytes.</param>
    internal static void Write(Stream to, string shown, Action<Stream, int> backUp)
    {
        long start = to.Length;
        foreach (int bytes in _answerBytes)
        {
            to.SetLength(start);
            to.Position = start;
            var end = new End(to);
            backUp(end, bytes);
            if (end.IsReached) return;
        }
        throw new TransferraException($"the server's own backup of the database {shown} never came whole",
            "Try again when the server is less busy.");
    }

    /// <summary>Makes a database of a backup.</summary>
    /// <param name="from">The backup, from where it stands.</param>
    /// <param name="to">The database.</param>
    /// <param name="parts">What of it, and how.</param>
    /// <exception cref="FbException">The server refused, or the backup is cut off; what was made of it is removed.</exception>
    /// <exception cref="TransferraException">It is there already.</exception>
    public static void Restore(Stream from, StoreAddress to, FbRestoreFlags parts = 0)
    {
        FbServer.RefuseIfThere(to);
        try
        {
            new FbStreamingRestore(FbLink.Describe(to))
            {
                InputStream = new Asked(from),
                Options = parts | FbRestoreFlags.Create
            }.Execute();
        }
        // One that somebody else made meanwhile is theirs.
        catch (FbException error) when (!error.Message.Contains("exists", StringComparison.OrdinalIgnoreCase))
        {
            // The server lets go of what it was making a moment after it lost the one who asked for it.
            for (int tries = 0; tries < 30 && !HalfMade.Remove(() => new FbServer(to.Server!).Remove(to.Path)); tries++) Thread.Sleep(100);
            throw;
        }
    }

    // Passes on what comes, and knows whether the end came, too.
    private sealed class End(Stream to) : WrittenStream
    {
        private long _mark = -1;

        public bool IsReached => Length > 0 && Length % BlockBytes == 0 && _mark >= Length - BlockBytes;

        protected override void Take(ReadOnlySpan<byte> bytes, long position)
        {
            to.Write(bytes);
            if (bytes.LastIndexOf(EndMark) is >= 0 and var last) _mark = position + last;
        }
    }

    // Gives what the server asks for.
    private sealed class Asked(Stream from) : GivenStream
    {
        private int _vain;

        public override int Read(Span<byte> buffer)
        {
            int read = from.Read(buffer);
            _vain = read > 0 ? 0 : _vain + 1;
            return _vain <= MostVainAnswers ? read
                : throw new EndOfStreamException("the engine's backup of it is cut off: the server asks for more than it contains");
        }
    }
}
