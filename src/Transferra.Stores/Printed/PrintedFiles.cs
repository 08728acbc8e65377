// PrintedFiles.cs: reads reports from the files that programs print or export into: text, delimited text, HTML, workbooks, PDF.
// PDF is read by pdftotext, HTML by AngleSharp, workbooks as stores read them.
// Holds: (1) a file is only read; (2) one that cannot be read as text is an error that says so, never an empty report.
using System.IO.Compression;
using System.Text;
using AngleSharp.Dom;
using AngleSharp.Html.Parser;
using Transferra.Core.Machine;
using Transferra.Core.Printed;
using Transferra.Core.Records;
using Transferra.Stores.Workbook;

namespace Transferra.Stores.Printed;

/// <summary>Reads reports.</summary>
/// <param name="commands">Runs pdftotext.</param>
public sealed class PrintedFiles(ICommands commands)
{
    private const long Largest = 256L << 20;

    private static readonly TimeSpan PdfLimit = TimeSpan.FromMinutes(5);

    /// <summary>All files below a folder, by their names from there.</summary>
    /// <exception cref="TransferraException">There is no such folder, or one below it cannot be read.</exception>
    public static IReadOnlyList<string> In(string folder)
    {
        if (!Directory.Exists(folder)) throw new TransferraException($"there is no folder {folder}",
            "Name the folder that the reports were printed or exported into.");
        // What cannot be read, or is hidden, is no reason to say that the rest is the same.
        var all = new EnumerationOptions
        {
            RecurseSubdirectories = true,
            IgnoreInaccessible = false,
            AttributesToSkip = FileAttributes.None
        };
        try
        {
            return [.. Directory.EnumerateFiles(folder, "*", all).Select(path => Path.GetRelativePath(folder, path))
                .Order(StringComparer.Ordinal)];
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException)
        {
            throw new TransferraException($"{folder} cannot be read whole: {error.Message}", "See who may read it.", error);
        }
    }

    /// <summary>Reads one.</summary>
    /// <param name="folder">The folder of its side.</param>
    /// <param name="name">Its name from there.</param>
    /// <exception cref="TransferraException">It cannot be read.</exception>
    public PrintedReport Read(string folder, string name)
    {
        string path = Path.Combine(folder, name);
        try
        {
            if (new FileInfo(path).Length > Largest)
                throw new TransferraException($"{path} is too large for a report", "Print it in parts, or compare the records.");
            return Path.GetExtension(name).ToLowerInvariant() switch
            {
                ".pdf" => Pdf(path, name),
                ".xlsx" or ".xlsm" => Book(path, name),
                ".html" or ".htm" => new PrintedReport(name, [Html(PlainFile.ReadText(path))]),
                _ => Text(PlainFile.ReadBytes(path), path, name)
            };
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException or InvalidDataException)
        {
            throw new TransferraException($"{path} cannot be read: {error.Message}", "See whether it was printed whole.", error);
        }
    }

    private static PrintedReport Text(byte[] bytes, string path, string name)
    {
        if (bytes.AsSpan().Contains((byte)0) && !bytes.AsSpan().StartsWith(Encoding.Unicode.GetPreamble()))
            throw new TransferraException($"{path} is not a text", "Print or export it as text, HTML, .xlsx or PDF.");
        string text, readAs = "";
        if (bytes.AsSpan().StartsWith(Encoding.Unicode.GetPreamble())) text = Encoding.Unicode.GetString(bytes.AsSpan(2));
        else
        {
            try { text = TextEncodings.StrictUtf8.GetString(bytes); }
            catch (DecoderFallbackException)
            {
                (text, readAs) = (TextEncodings.ByName("windows-1252").GetString(bytes), "read as windows-1252");
            }
        }
        return new PrintedReport(name, Pages(text)) { ReadAs = readAs };
    }

    // A form feed begins a new page; one at the end begins none.
    private static IReadOnlyList<IReadOnlyList<string>> Pages(string text) => [.. text.TrimStart('\uFEFF').TrimEnd('\f', '\n', '\r')
        .Split('\f').Select(page => page.ReplaceLineEndings("\n").Split('\n'))];

    private PrintedReport Pdf(string path, string name)
    {
        string text = Path.Combine(Path.GetTempPath(), "transferra-" + Guid.NewGuid().ToString("N"));
        try
        {
            CommandResult result;
            try { result = commands.Run(["pdftotext", "-layout", "-enc", "UTF-8", Path.GetFullPath(path), text], PdfLimit); }
            catch (TransferraException error)
            {
                throw new TransferraException($"{path} cannot be read: {error.Message}",
                    "PDF is read by pdftotext, which Debian has in the "
                    + "package poppler-utils.", error);
            }
            if (result.ExitCode != 0 || !File.Exists(text))
                throw new TransferraException($"{path} cannot be read: {result.FirstLine}", "See whether it was printed whole.");
            IReadOnlyList<IReadOnlyList<string>> pages = Pages(File.ReadAllText(text));
            return pages.All(page => page.All(string.IsNullOrWhiteSpace))
                ? throw new TransferraException($"{path} holds no text, only pictures of it", "Print it as text, HTML or .xlsx instead.")
                : new PrintedReport(name, pages);
        }
        finally { File.Delete(text); }
    }

    private static PrintedReport Book(string path, string name)
    {
        WorkbookParts parts;
        using (var package = new ZipArchive(PlainFile.Open(path), ZipArchiveMode.Read)) parts = WorkbookParts.Read(package);
        var pages = new List<IReadOnlyList<string>>();
        foreach ((string sheet, string part) in parts.Sheets)
        {
            using var reader = new SheetReader(path, sheet, part, parts);
            List<string> lines = [];
            while (reader.Next()) lines.Add(string.Join(" | ", reader.Cells.Select(cell => cell.Text)).TrimEnd(' ', '|'));
            pages.Add([sheet, .. lines]);
        }
        return new PrintedReport(name, pages);
    }

    private static readonly HashSet<string> Lines = ["P", "DIV", "TR", "LI", "H1", "H2", "H3", "H4", "H5", "H6", "TABLE", "BR", "PRE", "DT",
        "DD", "HR", "SECTION", "HEADER", "FOOTER", "CAPTION", "UL", "OL", "BODY"];

    // As a reader sees it: a line for each row of a table and each paragraph.
    private static List<string> Html(string text)
    {
        using IDocument page = new HtmlParser().ParseDocument(text);
        var lines = new List<string>();
        var line = new StringBuilder();
        if (page.Body is { } body) Walk(body);
        End();
        return lines;

        void End()
        {
            if (line.Length > 0) lines.Add(line.ToString());
            line.Clear();
        }

        void Walk(INode node)
        {
            if (node is IText words)
            {
                foreach (string part in words.ParentElement?.TagName == "PRE" ? words.Data.Split('\n') : [words.Data])
                {
                    line.Append(part);
                    if (words.ParentElement?.TagName == "PRE") End();
                }
                return;
            }
            if (node is not IElement element || element.TagName is "SCRIPT" or "STYLE" or "TITLE") return;
            if (Lines.Contains(element.TagName)) End();
            if (element.TagName is "TD" or "TH" && line.Length > 0) line.Append(" | ");
            foreach (INode child in element.ChildNodes) Walk(child);
            if (Lines.Contains(element.TagName)) End();
        }
    }
}
