// ServiceMeans.cs: the vendor's service converts when it starts. It is started for that alone, on the copy in the store's own place,
// watched until its log or its port says that it is through, and stopped again.
// Holds: (1) it runs only for the hop, and is off again whatever happens; (2) of its log counts only what it wrote since it was started;
// (3) a mark of failure, or the end of the time, stops the hop.
using System.Diagnostics;
using System.Globalization;
using System.Text.RegularExpressions;
using Transferra.Core.Conversion;
using Transferra.Core.Kits;
using Transferra.Core.Machine;
using Transferra.Core.Records;

namespace Transferra.Core.Means;

/// <summary>Converts by a service that does so when it starts.</summary>
internal sealed class ServiceMeans : IHopMeans
{
    private static readonly TimeSpan Beat = TimeSpan.FromMilliseconds(500);

    private string _service = "";
    private string? _log;
    private Regex? _says;
    private int _port;
    private IReadOnlyList<Regex> _failures = [];
    private TimeSpan _limit = TimeSpan.FromHours(12);

    /// <inheritdoc/>
    public string Name => "service";

    /// <inheritdoc/>
    public bool GoesByMaps => false;

    /// <inheritdoc/>
    public bool NeedsOwnPlace => true;

    /// <inheritdoc/>
    public IReadOnlyList<string> Services => [_service];

    /// <inheritdoc/>
    IMeans IMeans.With(DescribedMap details)
    {
        string name = details.Text("service").Value;
        DescribedMap? until = details.Map("until", "what says that it is through", required: true);
        PlacedText? log = until?.Optional("log"), says = until?.Optional("says"), port = until?.Optional("port");
        int number = 0;
        if (until is not null && (log is null) == (port is null)) until.Report("until: {log: FILE, says: PATTERN}, or until: {port: "
            + "NUMBER}");
        if (log is not null && says is null) until!.Report("\"says\" is what stands in the log when it is through");
        if (log is not null) HopPlaceholders.Check(log, HopPlaceholders.Known, details);
        if (port is not null && (!int.TryParse(port.Value, NumberStyles.None, CultureInfo.InvariantCulture, out number)
            || number is < 1 or > ushort.MaxValue)) port.Report(details.Errors, $"\"{port}\" is not a port");
        until?.Done();
        return new ServiceMeans
        {
            _service = name,
            _log = log?.Value,
            _says = says is null ? null : HopTexts.Like(says, details),
            _port = number,
            _failures = [.. details.Texts("failure").Select(mark => HopTexts.Like(mark, details)).OfType<Regex>()],
            _limit = HopTexts.Minutes(details, "time-limit", _limit)
        };
    }

    /// <inheritdoc/>
    public ConversionResult Convert(HopWork work, BuildMark from)
    {
        string? log = _log is null ? null : HopPlaceholders.Said(_log, HopPlaceholders.Of(work, ""));
        long began = log is not null && File.Exists(log) ? new FileInfo(log).Length : 0;
        var clock = Stopwatch.StartNew();
        IHopOffice office = work.Office!;
        office.Turn(_service, on: true);
        try { Await(work, log, began, clock); }
        finally { office.Turn(_service, on: false); }
        return new ConversionResult([], [], new Dictionary<string, long>())
        {
            Remarks = from.Copy?.NotBrought ?? [],
            Program = new ProgramRun($"the service {_service}", null, clock.Elapsed.TotalSeconds, log ?? "", log ?? ""),
        };
    }

    private void Await(HopWork work, string? log, long began, Stopwatch clock)
    {
        while (clock.Elapsed < _limit)
        {
            work.Cancel.ThrowIfCancellationRequested();
            string last = "";
            foreach (string line in log is null ? [] : Written(log, began))
            {
                if (line.Length > 0) last = line;
                if (_failures.Any(mark => mark.IsMatch(line)))
                    throw new TransferraException($"the service {_service} says that it failed: {line}", Next(log!));
                if (_says!.IsMatch(line)) return;
            }
            if (_port > 0 && Network.Answers(_port)) return;
            work.Observer.Progress(last.Length > 0 ? $"{_service}: {last}" : $"{_service} is at work", 0, 0);
            work.Cancel.WaitHandle.WaitOne(Beat);
        }
        throw new TransferraException(string.Create(CultureInfo.InvariantCulture,
            $"the service {_service} was not through after {_limit.TotalMinutes:0.#} minutes"), Next(log ?? "its log"));
    }

    private static IEnumerable<string> Written(string log, long began)
    {
        if (!File.Exists(log)) yield break;
        using var stream = new FileStream(log, FileMode.Open, FileAccess.Read, FileShare.ReadWrite | FileShare.Delete);
        if (stream.Length >= began) stream.Seek(began, SeekOrigin.Begin);
        using var text = new StreamReader(stream);
        while (text.ReadLine() is { } line) yield return line;
    }

    private static string Next(string log) => $"It was given a copy, which is thrown away. Look into {log}, and send it "
        + "to the vendor.";
}
