// OpenFiles.cs: which processes hold a file open, from /proc (proc(5)); those of other users are seen only by root.
// Why by bytes and system calls: a machine with servers on it has thousands of open files, nearly all of them connections, and who is in
// is asked again and again while people leave. Each open file costs one call, and nothing is kept of those that are not asked about.
// Holds: (1) a file reached through links, also of folders above it, is recognised; (2) a file that is not there is held by nobody;
// (3) of several stores asked about at once, each has its own holders.
using System.Globalization;
using System.Text;

namespace Transferra.Core.Machine;

/// <summary>A process that holds a file open.</summary>
public sealed record FileHolder(int ProcessId, string Program, string File);

/// <summary>Asks the system who holds files open.</summary>
public static class OpenFiles
{
    private const string Processes = "/proc";
    private const int LongestPath = 4096; // PATH_MAX

    /// <summary>The other processes that hold any of the files open.</summary>
    /// <param name="files">Full paths.</param>
    public static IReadOnlyList<FileHolder> HoldersOf(IReadOnlyCollection<string> files) => HoldersOfEach([files])[0];

    /// <summary>The other processes that hold any of the files of each group open, by one look at all processes.</summary>
    /// <param name="groups">Full paths of each.</param>
    /// <returns>As many lists as groups; in each a process stands once.</returns>
    public static IReadOnlyList<IReadOnlyList<FileHolder>> HoldersOfEach(IReadOnlyList<IReadOnlyCollection<string>> groups)
    {
        List<FileHolder>[] holders = [.. groups.Select(_ => new List<FileHolder>())];
        // Links in /proc name the file itself, so the path asked about must be freed of links first.
        ILookup<string, int> wanted = groups.SelectMany((files, group) => files.Select(FileIdentity.RealPath).OfType<string>()
            .Select(file => (file, group))).ToLookup(pair => pair.file, pair => pair.group, StringComparer.Ordinal);
        if (wanted.Count == 0) return holders;
        HashSet<int> lengths = [.. wanted.Select(file => Encoding.UTF8.GetByteCount(file.Key))];
        byte[] target = new byte[LongestPath];
        foreach (int id in NumbersIn(Processes).Where(id => id != Environment.ProcessId))
            foreach (string file in OpenIn(id, target, lengths))
                foreach (int group in wanted[file])
                    if (holders[group] is not [.., { } last] || last.ProcessId != id) AddHolder(holders[group], id, file);
        return holders;
    }

    private static void AddHolder(List<FileHolder> holders, int id, string file)
    {
        try { holders.Add(new FileHolder(id, File.ReadAllText($"{Processes}/{id}/comm").Trim(), file)); }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException) { /* it ended meanwhile */ }
    }

    // The files with paths of certain lengths that a process holds open.
    private static IEnumerable<string> OpenIn(int id, byte[] target, HashSet<int> lengths)
    {
        string handles = string.Create(CultureInfo.InvariantCulture, $"{Processes}/{id}/fd");
        List<int> all;
        try { all = NumbersIn(handles); }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException)
        {
            yield break; // the process ended meanwhile, or belongs to another user; root sees them all
        }
        foreach (int handle in all)
        {
            int length = (int)SystemCalls.ReadLink(PosixFiles.Terminated(PosixFiles.Bytes(string.Create(
                CultureInfo.InvariantCulture, $"{handles}/{handle}"))), target, target.Length);
            // Connections and pipes have no path; what was closed meanwhile has nothing.
            if (length > 0 && target[0] == '/' && lengths.Contains(length)) yield return Encoding.UTF8.GetString(target, 0, length);
        }
    }

    // Folders and links in /proc that are called by a number.
    private static List<int> NumbersIn(string folder)
    {
        var numbers = new List<int>();
        byte[] path = PosixFiles.Bytes(folder);
        foreach (byte[] name in PosixFiles.Names(SystemCalls.OpenFolder(PosixFiles.Terminated(path)), path))
            if (int.TryParse(name, NumberStyles.None, CultureInfo.InvariantCulture, out int number)) numbers.Add(number);
        numbers.Sort();
        return numbers;
    }
}
