// Rounds.cs: runs statements of which some need others of them first, without knowing which: those that fail are tried again after the
// others, as long as that helps.
namespace Transferra.Stores.Servers;

internal static class Rounds
{
    /// <summary>Runs all.</summary>
    /// <param name="statements">In an order that is good for most.</param>
    /// <param name="run">Runs one; what it says when it fails, null when it went well. A failed one leaves no trace.</param>
    /// <returns>Those that fail for good, with what was said.</returns>
    public static IReadOnlyList<(string Statement, string Why)> Run(IReadOnlyList<string> statements, Func<string, string?> run)
    {
        IReadOnlyList<(string Statement, string Why)> left = [.. statements.Select(statement => (statement, ""))];
        while (left.Count > 0)
        {
            (string Statement, string Why)[] failed = [.. left.Select(entry => (entry.Statement, Why: run(entry.Statement)))
                .Where(entry => entry.Why is not null).Select(entry => (entry.Statement, entry.Why!))];
            if (failed.Length == left.Count) return failed;
            left = failed;
        }
        return [];
    }

    /// <summary>The beginning of a statement, for messages.</summary>
    public static string Shown(string statement)
    {
        const int most = 90;
        string line = string.Join(' ', statement.Split((char[]?)null, StringSplitOptions.RemoveEmptyEntries));
        return line.Length <= most ? line : line[..most] + "...";
    }
}
