// ProgressLine.cs: one line at the foot of the terminal that shows what is going on: table, records, rate, time left.
// Why a timer: it must not stand still for a second even when the engine is busy with one long call, or people kill it.
using System.Diagnostics;
using System.Globalization;

namespace Transferra.Cli.Rendering;

internal sealed class ProgressLine : IDisposable
{
    private static readonly string[] Spinner = ["|", "/", "-", "\\"];
    private static readonly TimeSpan Beat = TimeSpan.FromMilliseconds(200);

    private readonly Lock _lock = new();
    private readonly Timer? _timer;
    private readonly Stopwatch _clock = new();
    private string _what = "";
    private long _done, _total;
    private int _beat;
    private bool _drawn, _isBytes;

    public ProgressLine(bool active)
    {
        if (active) _timer = new Timer(_ => Draw(), null, Beat, Beat);
    }

    /// <summary>Says what is being done and how far it is; total 0 when that is not known.</summary>
    public void Show(string what, long done, long total, bool isBytes = false)
    {
        if (_timer is null) return;
        lock (_lock)
        {
            if (what != _what)
            {
                _what = what;
                _clock.Restart();
            }
            (_done, _total, _isBytes) = (done, total, isBytes);
        }
    }

    /// <summary>Takes the line away, before something else is printed.</summary>
    public void Clear()
    {
        if (_timer is null) return;
        lock (_lock)
        {
            _what = "";
            if (_drawn) Write("\r\x1b[K");
            _drawn = false;
        }
    }

    private static void Write(string text)
    {
        try { Console.Error.Write(text); }
        catch (IOException) { /* nobody sees it, and nothing depends on it */ }
    }

    private void Draw()
    {
        lock (_lock)
        {
            if (_what.Length == 0) return;
            string line = Words(Spinner[_beat++ % Spinner.Length], _what, _done, _total, _clock.Elapsed, _isBytes);
            Write("\r" + SafeText.OneLine(line) + "\x1b[K");
            _drawn = true;
        }
    }

    /// <summary>The line's text, at most 99 characters.</summary>
    internal static string Words(string spinner, string what, long done, long total, TimeSpan elapsed, bool isBytes = false)
    {
        string line = $"  {spinner} {what}";
        if (total > 0)
        {
            double rate = elapsed.TotalSeconds > 0.5 ? done / elapsed.TotalSeconds : 0;
            // What was reckoned with may turn out to be less than there is.
            bool isWithin = done <= total;
            line += $"  {Amount(done)}" + (isWithin ? string.Create(CultureInfo.InvariantCulture,
                $" of {Amount(total)}  {100.0 * done / total:0} %") : "");
            if (rate > 0) line += $"  {Amount((long)rate)}/s" + (isWithin ? $"  {TimeText((total - done) / rate)} left" : "");
        }
        line += $"  ({TimeText(elapsed.TotalSeconds)})";
        return line.Length > Screen.Width - 1 ? line[..(Screen.Width - 1)] : line;

        string Amount(long number) => isBytes ? Core.Machine.Sizes.Of(number) : number.ToString("#,0", CultureInfo.InvariantCulture);
    }

    private static string TimeText(double seconds) => seconds < 90
        ? string.Create(CultureInfo.InvariantCulture, $"{Math.Max(0, seconds):0} s")
        : string.Create(CultureInfo.InvariantCulture, $"{seconds / 60:0} min");

    public void Dispose()
    {
        Clear();
        _timer?.Dispose();
    }
}
