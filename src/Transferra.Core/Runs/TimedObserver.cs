// TimedObserver.cs: hears a run for somebody else, and keeps how long each table, statement and file of each stage took.
using System.Diagnostics;
using Transferra.Core.Office;

namespace Transferra.Core.Runs;

/// <summary>A part of a stage and its time.</summary>
/// <param name="Company">The company.</param>
/// <param name="Stage">The stage.</param>
/// <param name="What">The table, statement or file, as the progress calls it.</param>
/// <param name="Seconds">How long it was the last that was heard of. What goes on beside it at the same time counts for either.</param>
public sealed record TimedPart(string Company, string Stage, string What, double Seconds);

/// <summary>Keeps times.</summary>
/// <param name="inner">Hears everything.</param>
public sealed class TimedObserver(IRunObserver inner) : IRunObserver
{
    // So many are kept apart; a script of a million statements is not remembered statement by statement.
    private const int MostKept = 20_000;

    private readonly Lock _lock = new();
    private readonly Dictionary<(string Company, string Stage, string What), double> _seconds = [];
    private readonly Stopwatch _clock = Stopwatch.StartNew();
    private (string Company, string Stage, string What) _now = ("", "", "");

    /// <summary>The longest, longest first.</summary>
    public IReadOnlyList<TimedPart> Longest(string company, int most)
    {
        lock (_lock)
        {
            return [.. _seconds.Where(part => part.Key.Company == company && part.Key.What.Length > 0).OrderByDescending(part => part.Value)
                .Take(most).Select(part => new TimedPart(company, part.Key.Stage, part.Key.What, part.Value))];
        }
    }

    private void Turn((string Company, string Stage, string What) to)
    {
        lock (_lock)
        {
            if (to == _now) return;
            double seconds = _clock.Elapsed.TotalSeconds;
            _clock.Restart();
            if (_seconds.Count < MostKept || _seconds.ContainsKey(_now)) _seconds[_now] = _seconds.GetValueOrDefault(_now) + seconds;
            _now = to;
        }
    }

    /// <inheritdoc/>
    public void Progress(string table, long rows, long ofRows)
    {
        Turn(_now with { What = table });
        inner.Progress(table, rows, ofRows);
    }

    /// <inheritdoc/>
    public void Bytes(string what, long done, long of)
    {
        Turn(_now with { What = what });
        inner.Bytes(what, done, of);
    }

    /// <inheritdoc/>
    public void Told(string words) => inner.Told(words);

    /// <inheritdoc/>
    public void Defect(string company, string stage, Exception error) => inner.Defect(company, stage, error);

    /// <inheritdoc/>
    public void StageBegins(string company, string stage)
    {
        Turn((company, stage, ""));
        inner.StageBegins(company, stage);
    }

    /// <inheritdoc/>
    public void StageEnds(string company, string stage, string state, string summary, object? result)
    {
        Turn(("", "", ""));
        inner.StageEnds(company, stage, state, summary, result);
    }
}
