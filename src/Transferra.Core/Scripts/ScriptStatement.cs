// ScriptStatement.cs: one statement of a vendor's script, and what is said when a script is not one that can be run.
using System.Globalization;

namespace Transferra.Core.Scripts;

/// <summary>A statement.</summary>
/// <param name="Text">As it stands there, without what ends it and without comments before it.</param>
/// <param name="Line">Where it begins, from 1.</param>
public sealed record ScriptStatement(string Text, int Line)
{
    /// <summary>Its first words, for messages.</summary>
    public string Shown
    {
        get
        {
            const int most = 80;
            string line = string.Join(' ', Text[..Math.Min(Text.Length, 4 * most)].Split((char[]?)null,
                StringSplitOptions.RemoveEmptyEntries));
            return line.Length <= most ? line : line[..most] + "...";
        }
    }
}

/// <summary>A script cannot be taken apart.</summary>
/// <param name="line">Where, from 1.</param>
/// <param name="what">What is wrong, lower case, one line.</param>
/// <param name="next">What to do, in sentences.</param>
public sealed class ScriptMistakeException(int line, string what, string next)
    : Exception(string.Create(CultureInfo.InvariantCulture, $"line {line}: {what}"))
{
    /// <summary>Where, from 1.</summary>
    public int Line => line;

    /// <summary>What is wrong.</summary>
    public string What => what;

    /// <summary>What to do.</summary>
    public string Next => next;
}
