// Diagnostics.cs: what nobody foresaw is written down for who mends it: transferra/diagnostic/DAY.log in the office's folder.
// Holds: (1) no value of a record, no key and no password gets into it: an exception is written by its kind and by where it arose, not by
// its words, which an
//        engine may have put a record into; (2) where it cannot be written, that is not a second misfortune.
using System.Globalization;
using System.Text;
using Serilog;
using Serilog.Core;

namespace Transferra.Cli;

/// <summary>The diagnostic log of an office.</summary>
/// <param name="officeFolder">Folder of office.yaml.</param>
/// <param name="command">The command that was called.</param>
internal sealed class Diagnostics(string officeFolder, string command)
{
    private const int LargestLog = 10 << 20, MostLogs = 30;

    /// <summary>Writes down an exception that nobody foresaw.</summary>
    /// <param name="at">Company and stage, or what was being done.</param>
    /// <param name="error">The exception.</param>
    /// <returns>The log's file; null when it could not be written.</returns>
    public string? Write(string at, Exception error)
    {
        try
        {
            string folder = Path.Combine(officeFolder, "transferra", "diagnostic");
            // an office of which nothing was begun stays untouched
            if (!Directory.Exists(Path.Combine(officeFolder, "transferra"))) return null;
            Directory.CreateDirectory(folder);
            string file = Path.Combine(folder, DateTimeOffset.UtcNow.ToString("yyyyMMdd", CultureInfo.InvariantCulture) + ".log");
            using Logger log = new LoggerConfiguration().WriteTo.File(file,
                outputTemplate: "{Timestamp:yyyy-MM-dd HH:mm:ss.fff zzz} {Message:lj}{NewLine}",
                formatProvider: CultureInfo.InvariantCulture, fileSizeLimitBytes: LargestLog, retainedFileCountLimit: MostLogs)
                    .CreateLogger();
            log.Error("{Program} {Version}, {Command}, {At}\n{Where}", "transferra", Session.Version, command, at, Where(error));
            return file;
        }
        catch (Exception unwritten) when (unwritten is IOException or UnauthorizedAccessException) { return null; }
    }

    private static string Where(Exception error)
    {
        var text = new StringBuilder();
        for (Exception? cause = error; cause is not null; cause = cause.InnerException)
        {
            text.Append(CultureInfo.InvariantCulture,
                $"{(cause == error ? "" : "caused by ")}{cause.GetType().FullName} (0x{cause.HResult:X8})");
            if (cause is System.Data.Common.DbException { SqlState: { } state }) text.Append(CultureInfo.InvariantCulture,
                $", SQLSTATE {state}");
            text.Append('\n').Append(cause.StackTrace).Append('\n');
        }
        return text.ToString();
    }
}
