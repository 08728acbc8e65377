// ExportProof.cs: whether what the vendor's old program wrote out is there, of this run, readable and not empty, and whether its files
// hold as many records as the tables they come from.
// Holds: (1) a file that is missing, older than the run, empty, still open or not of its own form is not taken for an export.
using System.Globalization;
using System.IO.Compression;
using System.IO.Enumeration;
using System.Security.Cryptography;
using System.Text.Json;
using System.Xml;
using Transferra.Core.Conversion;
using Transferra.Core.Machine;
using Transferra.Core.Records;

namespace Transferra.Core.Means;

/// <summary>A file of which each line, but for those at its head, is a record of a table.</summary>
internal sealed record CountedFile(string File, string Table, int HeadLines);

/// <param name="folder">Where the files come to.</param>
/// <param name="patterns">What each of them is called; every pattern must fit at least one.</param>
/// <param name="counted">Those whose records are counted.</param>
/// <param name="since">They must be newer than this.</param>
internal sealed class ExportProof(string folder, IReadOnlyList<string> patterns, IReadOnlyList<CountedFile> counted, DateTimeOffset since)
{
    /// <summary>The files that fit.</summary>
    public IReadOnlyList<string> Files => !Directory.Exists(folder) ? [] : [.. Directory.EnumerateFiles(folder)
        .Where(file => patterns.Any(pattern => Fits(pattern, file))).Order(StringComparer.Ordinal)];

    private static bool Fits(string pattern, string file) => FileSystemName.MatchesSimpleExpression(pattern, Path.GetFileName(file));

    /// <summary>What is not as it should be, in words; null when all is there.</summary>
    public string? Missing()
    {
        IReadOnlyList<string> files = Files;
        if (patterns.FirstOrDefault(pattern => !files.Any(file => Fits(pattern, file))) is { } none)
            return $"there is no {none} in {folder}";
        foreach (string file in files)
        {
            var info = new FileInfo(file);
            // A file system may keep whole seconds only.
            if (info.LastWriteTimeUtc < since.UtcDateTime.AddSeconds(-2))
                return string.Create(CultureInfo.InvariantCulture, $"{file} is of {info.LastWriteTimeUtc:yyyy-MM-dd HH:mm} UTC, from "
                    + $"before this run ({since.UtcDateTime:yyyy-MM-dd HH:mm})");
            if (info.Length == 0) return $"{file} is empty";
            if (OpenFiles.HoldersOf([file]) is [var holder, ..])
                return string.Create(CultureInfo.InvariantCulture, $"{file} is still open in {holder.Program} ({holder.ProcessId})");
            if (Unreadable(file) is { } why) return $"{file} cannot be read: {why}";
        }
        return null;
    }

    private static string? Unreadable(string file)
    {
        try
        {
            using FileStream stream = PlainFile.Open(file);
            switch (Path.GetExtension(file).ToUpperInvariant())
            {
                case ".XML":
                    using (var reader = XmlReader.Create(stream, new XmlReaderSettings { DtdProcessing = DtdProcessing.Ignore }))
                        while (reader.Read()) { /* to its end */ }
                    break;
                case ".JSON":
                    using (JsonDocument.Parse(stream)) { /* it is whole */ }
                    break;
                case ".ZIP":
                    using (var zip = new ZipArchive(stream, ZipArchiveMode.Read))
                        foreach (ZipArchiveEntry entry in zip.Entries)
                            using (Stream inside = entry.Open()) inside.CopyTo(Stream.Null);
                    break;
                default:
                    stream.CopyTo(Stream.Null);
                    break;
            }
            return null;
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException or XmlException or JsonException
            or InvalidDataException or TransferraException)
        {
            return error.Message;
        }
    }

    /// <summary>Holds the records that are counted against their tables.</summary>
    /// <param name="source">The store that was written out.</param>
    /// <returns>One line for each.</returns>
    /// <exception cref="TransferraException">A file has more or fewer.</exception>
    public IReadOnlyList<string> Count(IStore source)
    {
        var lines = new List<string>();
        foreach (CountedFile one in counted)
        {
            string path = Path.Combine(folder, one.File);
            if (!File.Exists(path)) throw new TransferraException($"there is no {one.File} in {folder}, whose records the kit has counted",
                "Correct \"records\" in the kit, or write it out again.");
            TableShape table = source.ReadShape().FirstOrDefault(known => RevisedTable.Same(known.Name, one.Table))
                ?? throw new TransferraException($"the old store has no table {one.Table}, against which {one.File} is counted",
                    "Correct \"records\" in the kit.");
            long found = RecordsIn(path) - one.HeadLines, wanted = source.CountRows(table.Name);
            if (found != wanted)
                throw new TransferraException(string.Create(CultureInfo.InvariantCulture, $"{one.File} has {found} records, and the table "
                    + $"{table.Name} that it comes from has {wanted}"), "The export is not whole. Write it out again, or ask the vendor.");
            lines.Add(string.Create(CultureInfo.InvariantCulture, $"{one.File}: {found} records, as many as in {table.Name}"));
        }
        return lines;
    }

    // A line end within quotes belongs to a value (RFC 4180); a quote within a value is doubled, and so leaves the state as it was.
    private static long RecordsIn(string path)
    {
        long records = 0;
        bool isQuoted = false, hasAny = false;
        using FileStream stream = PlainFile.Open(path, 1 << 20);
        byte[] buffer = new byte[1 << 16];
        for (int read; (read = stream.Read(buffer)) > 0;)
            foreach (byte one in buffer.AsSpan(0, read))
            {
                if (one == (byte)'"') isQuoted = !isQuoted;
                if (one == (byte)'\n' && !isQuoted)
                {
                    if (hasAny) records++;
                    hasAny = false;
                }
                else if (one is not (byte)'\r' and not (byte)'\n') hasAny = true;
            }
        return records + (hasAny ? 1 : 0);
    }

    /// <summary>Brings the files into a folder of the run, where nobody changes them any more.</summary>
    /// <param name="into">There already; the files' own folder is fine.</param>
    /// <returns>Each with its digest there.</returns>
    public IReadOnlyList<ExportedFile> BringTo(string into)
    {
        var brought = new List<ExportedFile>();
        foreach (string file in Files)
        {
            string kept = Path.Combine(into, Path.GetFileName(file)), digest = DigestOf(file);
            if (kept != file)
            {
                File.Copy(file, kept, overwrite: true);
                if (DigestOf(kept) != digest)
                    throw new TransferraException($"{file} changed while it was copied", "Wait until the program is through, then go on.");
            }
            brought.Add(new ExportedFile(Path.GetFileName(file), new FileInfo(kept).Length, digest));
        }
        return brought;
    }

    /// <summary>SHA-256 of a file, in hexadecimal.</summary>
    public static string DigestOf(string file)
    {
        using FileStream stream = PlainFile.Open(file, 1 << 20);
        return Convert.ToHexStringLower(SHA256.HashData(stream));
    }
}
