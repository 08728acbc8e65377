// ScriptsMeans.cs: the vendor's SQL scripts convert. They are run in a copy of the old store by the store's own engine, statement by
// statement.
// Holds: (1) every script is read through, and what would reach beyond the copy is refused, before the first statement is run; (2) a
// statement that the engine refuses stops the hop, unless the kit says that it is meant; the message names file, line and statement; (3) an
// interrupted hop begins with the copy again.
using System.Diagnostics;
using System.Globalization;
using System.Text;
using System.Text.RegularExpressions;
using Transferra.Core.Conversion;
using Transferra.Core.Kits;
using Transferra.Core.Machine;
using Transferra.Core.Records;
using Transferra.Core.Scripts;

namespace Transferra.Core.Means;

/// <summary>What is one transaction.</summary>
internal enum ScriptTransaction { None, Script, Hop }

/// <summary>An error that the vendor's scripts raise in good order.</summary>
/// <param name="Number">The engine's number of it; null for any.</param>
/// <param name="Says">What its words are like; null for any.</param>
/// <param name="Because">Why it is meant.</param>
internal sealed record MeantError(string? Number, Regex? Says, string Because)
{
    public bool Is(StatementRefusedException error) => (Number is null || Number == error.Number)
        && (Says is null || Says.IsMatch(error.Message));
}

/// <summary>Converts by scripts.</summary>
internal sealed class ScriptsMeans : IHopMeans
{
    private sealed record Script(string Name, string Path);

    private IReadOnlyList<Script> _scripts = [];
    private IReadOnlyList<(string Variable, string Value)> _variables = [];
    private IReadOnlyList<MeantError> _meant = [];
    private ScriptTransaction _transaction;
    private Encoding _encoding = TextEncodings.StrictUtf8;

    /// <inheritdoc/>
    public string Name => "scripts";

    /// <inheritdoc/>
    public bool GoesByMaps => false;

    /// <inheritdoc/>
    public IReadOnlyList<string> Runs => [.. _scripts.Select(script => $"the script {script.Name} in the new store"
        + (_variables.Count == 0 ? "" : " with " + string.Join(", ", _variables.Select(variable => $"{variable.Variable} as "
            + variable.Value))))];

    /// <inheritdoc/>
    IMeans IMeans.With(DescribedMap details)
    {
        string kit = HopTexts.KitFolder(details);
        return new ScriptsMeans
        {
            _scripts = [.. Files(details).Select(file => Found(file, kit, details)).OfType<Script>()],
            _variables = [.. details.Map("variables", "what stands in the scripts for what")?.Pairs()
                .Select(pair => (pair.Key.Value, pair.Value.Value)) ?? []],
            _meant = [.. details.Maps("errors-meant", "an error that is meant").Select(Meant)],
            _transaction = Transaction(details),
            _encoding = EncodingOf(details),
        };
    }

    private static IReadOnlyList<PlacedText> Files(DescribedMap details)
    {
        IReadOnlyList<PlacedText> files = details.Texts("files");
        if (files.Count == 0) details.Report("\"files\" names the vendor's scripts, in the order in which they are run");
        return files;
    }

    private static Script? Found(PlacedText file, string kit, DescribedMap details)
    {
        string path = System.IO.Path.GetFullPath(System.IO.Path.Combine(kit, file.Value));
        if (!path.StartsWith(kit + "/", StringComparison.Ordinal)) file.Report(details.Errors, $"{file} does not lie in the kit's folder");
        else if (!File.Exists(path)) file.Report(details.Errors, $"there is no script {file} in the kit's folder");
        else return new Script(file.Value, path);
        return null;
    }

    private static MeantError Meant(DescribedMap map)
    {
        PlacedText? number = map.Optional("number"), says = map.Optional("says");
        string because = map.Text("because").Value;
        map.Done();
        if (number is null && says is null) map.Report("an error that is meant is told by its \"number\", by what it \"says\", or by both");
        Regex? like = null;
        try
        {
            if (says is not null) like = new Regex(says.Value, RegexOptions.CultureInvariant | RegexOptions.IgnoreCase,
                TimeSpan.FromSeconds(1));
        }
        catch (ArgumentException error) { says!.Report(map.Errors, $"this is not a regular expression: {error.Message}"); }
        return new MeantError(number?.Value, like, because);
    }

    private static ScriptTransaction Transaction(DescribedMap details)
    {
        if (details.Optional("transaction") is not { } word) return ScriptTransaction.None;
        if (word.Value is "none" or "script" or "hop") return Enum.Parse<ScriptTransaction>(word.Value, ignoreCase: true);
        word.Report(details.Errors, "\"transaction\" can be: none, script, hop");
        return ScriptTransaction.None;
    }

    private static Encoding EncodingOf(DescribedMap details)
    {
        if (details.Optional("encoding") is not { } word) return TextEncodings.StrictUtf8;
        if (TextEncodings.IsKnown(word.Value)) return TextEncodings.ByName(word.Value);
        if (!word.Value.Equals("utf-8", StringComparison.OrdinalIgnoreCase)) word.Report(details.Errors,
            $"the code page \"{word}\" is not known; it can be utf-8, {string.Join(", ", TextEncodings.Names)}");
        return TextEncodings.StrictUtf8;
    }

    /// <inheritdoc/>
    public ConversionResult Convert(HopWork work, BuildMark from)
    {
        ScriptDialect dialect = ScriptDialects.Of(work.Target.Engine) ?? throw new TransferraException(
            $"{work.Hop.File} has scripts, and a store of {work.Target.Engine} runs no SQL", "Say otherwise who converts, or leave it "
                + "to maps.");
        long[] counts = [.. _scripts.Select(script => Count(script, dialect, work))];
        var runs = new List<ScriptRun>();
        using (IScriptRunner runner = work.Stores.RunScripts(work.Target))
        {
            if (_transaction == ScriptTransaction.Hop) runner.Begin();
            for (int i = 0; i < _scripts.Count; i++) runs.Add(Run(_scripts[i], counts[i], runner, dialect, work, runs));
            try
            {
                if (_transaction == ScriptTransaction.Hop) runner.Commit();
                runner.Complete();
            }
            catch (StatementRefusedException error)
            {
                throw new TransferraException($"what the scripts did cannot be made final: {error.Message}", Next(work), error);
            }
        }
        return new ConversionResult([], [], new Dictionary<string, long>()) { Remarks = from.Copy?.NotBrought ?? [], Scripts = runs };
    }

    private static ScriptGuard Guard(ScriptDialect dialect, HopWork work) => new(dialect, work.Untouchable);

    private IEnumerable<ScriptStatement> Statements(Script script, ScriptDialect dialect)
    {
        using var text = new StreamReader(script.Path, _encoding, detectEncodingFromByteOrderMarks: true);
        var reader = new ScriptReader(text, dialect);
        using IEnumerator<ScriptStatement> statements = reader.Statements().GetEnumerator();
        int line = 1;
        while (true)
        {
            try
            {
                if (!statements.MoveNext()) yield break;
                line = statements.Current.Line;
            }
            catch (ScriptMistakeException mistake)
            {
                throw new TransferraException(At(script, mistake.Line, mistake.What), mistake.Next, mistake);
            }
            catch (DecoderFallbackException error)
            {
                throw new TransferraException(At(script, line, "behind this line stands a character that is none of the script's code "
                    + "page"),
                    "Say in the hop in which encoding the scripts are written.", error);
            }
            yield return statements.Current;
        }
    }

    private static string At(Script script, int line, string what) =>
        string.Create(CultureInfo.InvariantCulture, $"{script.Name}, line {line}: {what}");

    private long Count(Script script, ScriptDialect dialect, HopWork work)
    {
        long count = 0;
        ScriptGuard guard = Guard(dialect, work);
        work.Observer.Progress($"reading {script.Name}", 0, 0);
        foreach (ScriptStatement statement in Statements(script, dialect))
        {
            count++;
            if (guard.WhyNot(Said(statement)) is { } why)
                throw new TransferraException(At(script, statement.Line, $"\"{statement.Shown}\" is not run: {why}"),
                    "Nothing was run. Do by hand what it is for, where that is needed, and take it out of the script.");
        }
        return count;
    }

    private string Said(ScriptStatement statement)
    {
        string text = statement.Text;
        foreach ((string variable, string value) in _variables) text = text.Replace(variable, value, StringComparison.Ordinal);
        return text;
    }

    private ScriptRun Run(Script script, long count, IScriptRunner runner, ScriptDialect dialect, HopWork work, List<ScriptRun> before)
    {
        var clock = Stopwatch.StartNew();
        long number = 0, rows = 0;
        var meant = new List<string>();
        if (_transaction == ScriptTransaction.Script) runner.Begin();
        foreach (ScriptStatement statement in Statements(script, dialect))
        {
            work.Cancel.ThrowIfCancellationRequested();
            work.Observer.Progress(At(script, statement.Line, statement.Shown), ++number, count);
            try { rows += runner.Run(Said(statement), mayFail: _meant.Count > 0); }
            catch (StatementRefusedException error) when (_meant.FirstOrDefault(known => known.Is(error)) is { } known)
            {
                meant.Add(At(script, statement.Line, $"{error.Message} (meant: {known.Because})"));
            }
            catch (StatementRefusedException error)
            {
                throw Refused(script, statement, number, count, error, work, before);
            }
        }
        try { if (_transaction == ScriptTransaction.Script) runner.Commit(); }
        catch (StatementRefusedException error)
        {
            throw new TransferraException($"{script.Name}: what it did cannot be made final: {error.Message}", Next(work), error);
        }
        return new ScriptRun(script.Name, number, rows, clock.Elapsed.TotalSeconds, meant);
    }

    private static TransferraException Refused(Script script, ScriptStatement statement, long number, long count,
        StatementRefusedException error, HopWork work, List<ScriptRun> before)
    {
        string code = error.Number.Length > 0 ? $" ({error.Number})" : "", done = before.Count == 0 ? "" : $" Before it ran "
            + $"{string.Join(", ", before.Select(run => run.Name))}.";
        return new TransferraException(At(script, statement.Line, string.Create(CultureInfo.InvariantCulture,
            $"the engine refuses statement {number} of {count}, \"{statement.Shown}\": {error.Message}{code}")),
            $"{Next(work)}{done}", error);
    }

    private static string Next(HopWork work) => "It ran on a copy, which is thrown away. Send this message "
        + "to the "
        + $"vendor; if the error is meant, say so under errors-meant in {work.Hop.File}.";
}
