// Unforeseen.cs: the words for an exception that nobody foresaw: what it says, without the values that it may quote.
// Why without: an engine's own message may quote a record ("duplicate entry '...'"), and records of payrolls belong in no report.
using System.ComponentModel;
using System.Runtime.InteropServices;
using System.Text.RegularExpressions;

namespace Transferra.Core.Machine;

/// <summary>Words for exceptions of others.</summary>
public static partial class Unforeseen
{
    private const int Longest = 240;

    /// <summary>One line for a person; what stands in quotes is left out, but for names of files.</summary>
    /// <param name="error">The exception.</param>
    public static string Words(Exception error)
    {
        if (error is AggregateException { InnerException: { } inner }) return Words(inner);
        string line = error.Message.Split('\n')[0].Trim();
        // The system's own errors quote paths, and those are what has to be looked at.
        if (error is IOException or UnauthorizedAccessException) return line;
        line = Quoted().Replace(line, "\"...\"");
        if (line.Length > Longest) line = line[..Longest] + "...";
        // What database drivers throw is of this kind; so are errors of the system, which are none of an engine's.
        if (error is ExternalException and not Win32Exception) return $"the database engine stopped the work: {line}";
        return $"something unexpected happened: {(line.Length > 0 ? line : "no more is known")}";
    }

    [GeneratedRegex("'[^']*'|\"[^\"]*\"|`[^`]*`|\\([^()]*\\)=\\([^()]*\\)", RegexOptions.CultureInvariant)]
    private static partial Regex Quoted();
}
