// KitQuestion.cs: what a kit may ask an engine in its own SQL: one statement that only reads.
// Why judged before the engine sees it: drivers cut a text at its semicolons by rules of their own, and a COMMIT in front would end what
// holds the engine to reading.
// Holds: a text that could be two statements to any of the engines, whatever it takes for a quote or a comment, is refused; some that
// would be one are refused with it.
using System.Text.RegularExpressions;
using Transferra.Core.Machine;

namespace Transferra.Core.Records;

/// <summary>Judges the SQL of kits. What is left is held to reading by the engine's own means, on a connection of its own.</summary>
public static partial class KitQuestion
{
    /// <summary>How long an engine may take for an answer.</summary>
    public static readonly TimeSpan TimeLimit = TimeSpan.FromMinutes(10);

    [GeneratedRegex(@"\A[\s(]*(SELECT|WITH|VALUES|SHOW|PRAGMA)\b", RegexOptions.IgnoreCase | RegexOptions.CultureInvariant)]
    private static partial Regex Begins();

    [GeneratedRegex(@"'[^']*'|""[^""]*""|`[^`]*`")]
    private static partial Regex Quoted();

    // Where one of these is about, what is quoted differs from engine to engine.
    [GeneratedRegex(@"\\|--|/\*|\#|\$")]
    private static partial Regex Unclear();

    [GeneratedRegex(@"\bINTO\b", RegexOptions.IgnoreCase | RegexOptions.CultureInvariant)]
    private static partial Regex Writes();

    /// <summary>Why a text is no such question; null when it is one.</summary>
    /// <returns>Lower case, one line, no full stop.</returns>
    public static string? WhyNot(string sql)
    {
        string text = WithoutEnd(sql);
        if (!Begins().IsMatch(text)) return "a question to the engine begins with SELECT, WITH, VALUES, SHOW or PRAGMA";
        string plain = Unclear().IsMatch(text) ? text : Quoted().Replace(text, "''");
        if (plain.Contains(';', StringComparison.Ordinal)) return "a question to the engine is one statement, and this may be several: "
            + "there is a semicolon in it";
        return Writes().IsMatch(plain) ? "a question to the engine must not write anything, and there is an INTO in it" : null;
    }

    /// <summary>The statement as it is given to the engine.</summary>
    /// <exception cref="TransferraException">It is not a question.</exception>
    public static string Of(string sql) => WhyNot(sql) is not { } why ? WithoutEnd(sql)
        : throw new TransferraException($"{why}: {sql}", "Correct it in the kit, or ask the vendor; nothing was asked.");

    [GeneratedRegex(@"'[^']*'|""[^""]*""|`[^`]*`|(?<![:\w]):(?<name>[A-Za-z_]\w*)", RegexOptions.CultureInvariant)]
    private static partial Regex NamedOrQuoted();

    /// <summary>A question with the office's answers, as texts, in the places of their names, which it writes as :name.</summary>
    /// <param name="sql">The question.</param>
    /// <param name="answers">The answers by name.</param>
    /// <exception cref="TransferraException">An answer cannot be put into SQL of every engine as it is.</exception>
    public static string Answered(string sql, IReadOnlyDictionary<string, string> answers) => NamedOrQuoted().Replace(sql, found =>
    {
        if (!found.Groups["name"].Success || !answers.TryGetValue(found.Groups["name"].Value, out string? answer)) return found.Value;
        // A backslash ends a text in one engine and stands for itself in another.
        return answer.AsSpan().IndexOfAny('\\', '\0') < 0 ? $"'{answer.Replace("'", "''", StringComparison.Ordinal)}'"
            : throw new TransferraException($"the answer {found.Groups["name"].Value} has a backslash in it, and a question to the engine "
                + "uses it", "Correct it in office.yaml, or have the total added up: table, by and sum in the kit.");
    });

    /// <summary>What is said when the engine took too long.</summary>
    /// <param name="store">Which store.</param>
    /// <param name="sql">What was asked.</param>
    /// <param name="limit">How long it was waited.</param>
    /// <param name="error">What the engine said.</param>
    public static TransferraException TookTooLong(string store, string sql, TimeSpan limit, Exception error) =>
        new(FormattableString.Invariant($"a question to {store} had no answer after {limit.TotalSeconds:0.#} s and was stopped: {sql}"),
            "Correct it in the kit, or ask the vendor: a sign looks at one record, a total reads a table once.", error);

    /// <summary>What is said when the engine refused it.</summary>
    /// <param name="store">Which store.</param>
    /// <param name="sql">What was asked.</param>
    /// <param name="said">The engine's words.</param>
    /// <param name="error">What it threw.</param>
    public static TransferraException Refused(string store, string sql, string said, Exception error) =>
        new($"the engine refused a question to {store}: {said} in: {sql}",
            "If the query stands in the kit, correct it there; otherwise check the store.", error);

    private static string WithoutEnd(string sql) => sql.TrimEnd().TrimEnd(';').Trim();
}
