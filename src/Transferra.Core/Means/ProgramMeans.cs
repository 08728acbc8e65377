// ProgramMeans.cs: the vendor's program converts a copy of the old store. It is run with answers for its questions, watched while it works,
// and not believed: by its exit code and by the marks in what it says and logs it has failed or not, and the match says what it did.
// Holds: (1) it is given the copy, never the old store; (2) it counts as through only when its exit code is one of those named, no mark of
// failure stands in its output or log, and the mark of success does where one is named; (3) its password stands in a file that is there
// only while it runs, and in no command, environment or log.
using System.Globalization;
using System.Text.RegularExpressions;
using Transferra.Core.Conversion;
using Transferra.Core.Kits;
using Transferra.Core.Machine;
using Transferra.Core.Records;

namespace Transferra.Core.Means;

/// <summary>Converts by the vendor's program.</summary>
internal sealed class ProgramMeans : IHopMeans
{
    private static readonly string[] Known = [.. HopPlaceholders.Known, "credentials"];

    private static readonly TimeSpan UsualLimit = TimeSpan.FromHours(12), UsualSilence = TimeSpan.FromMinutes(10);

    private const string ResultsFolder = "{results}";

    private IReadOnlyList<string> _command = [];
    private string _folder = ResultsFolder, _kit = "";
    private Dictionary<string, string> _environment = [];
    private IReadOnlyList<TypedAnswer> _answers = [];
    private IReadOnlyList<int> _exitCodes = [0];
    private string? _credentials, _log;
    private Regex? _success;
    private IReadOnlyList<Regex> _failures = [];
    private bool _inTerminal;
    private TimeSpan _limit = UsualLimit, _silence = UsualSilence;

    /// <inheritdoc/>
    public string Name => "program";

    /// <inheritdoc/>
    public bool GoesByMaps => false;

    /// <inheritdoc/>
    public bool MayHaveOwnPlace => true;

    /// <inheritdoc/>
    public IReadOnlyList<string> Runs => [$"the program {SystemCommands.Shown(_command)}" + (_environment.Count == 0 ? "" : " with "
        + string.Join(", ", _environment.Select(variable => $"{variable.Key}={variable.Value}")))
        + (_folder == ResultsFolder ? "" : $" in {_folder}")
        + (_answers.Count == 0 ? "" : $", answering {string.Join(", ", _answers.Select(answer => $"\"{answer.Say}\""))}")];

    /// <inheritdoc/>
    IMeans IMeans.With(DescribedMap details)
    {
        IReadOnlyList<PlacedText> command = details.Texts("command");
        if (command.Count == 0) details.Report("\"command\" names the program and its arguments: [/opt/wages/convert, --to, \"{store}\"]");
        IReadOnlyList<(PlacedText Key, PlacedText Value)> environment = details.Map("environment", "variables of the "
            + "program")?.Pairs() ?? [];
        PlacedText? folder = details.Optional("run-in"), credentials = details.Optional("credentials"), log = details.Optional("log");
        foreach (PlacedText text in command.Concat(environment.Select(pair => pair.Value)).Append(folder).Append(log).OfType<PlacedText>())
            HopPlaceholders.Check(text, Known, details);
        if (credentials is not null) HopPlaceholders.Check(credentials, [.. Known, "password"], details);
        return new ProgramMeans
        {
            _command = [.. command.Select(part => part.Value)],
            _folder = folder?.Value ?? ResultsFolder,
            _kit = HopTexts.KitFolder(details),
            _environment = environment.ToDictionary(pair => pair.Key.Value, pair => pair.Value.Value),
            _answers = [.. details.Maps("answers", "what is typed at a question").Select(AnswerOf).OfType<TypedAnswer>()],
            _exitCodes = details.Has("exit-codes") ? [.. details.Texts("exit-codes").Select(code => Number(code, details))] : [0],
            _credentials = credentials?.Value,
            _log = log?.Value,
            _success = details.Optional("success") is { } success ? HopTexts.Like(success, details) : null,
            _failures = [.. details.Texts("failure").Select(mark => HopTexts.Like(mark, details)).OfType<Regex>()],
            _inTerminal = details.IsYes("terminal"),
            _limit = HopTexts.Minutes(details, "time-limit", UsualLimit),
            _silence = HopTexts.Minutes(details, "tell-when-still", UsualSilence),
        };
    }

    private static TypedAnswer? AnswerOf(DescribedMap map)
    {
        Regex? asked = HopTexts.Like(map.Text("asked"), map);
        PlacedText say = map.Text("say");
        HopPlaceholders.Check(say, HopPlaceholders.Known, map);
        map.Done();
        return asked is null ? null : new TypedAnswer(asked, say.Value);
    }

    private static int Number(PlacedText text, DescribedMap map)
    {
        if (int.TryParse(text.Value, NumberStyles.None, CultureInfo.InvariantCulture, out int number)) return number;
        text.Report(map.Errors, $"\"{text}\" is not a whole number");
        return 0;
    }

    /// <inheritdoc/>
    public ConversionResult Convert(HopWork work, BuildMark from)
    {
        Dictionary<string, string> values = HopPlaceholders.Of(work, _kit);
        string? credentials = _credentials is null ? null : Path.Combine(work.OutputFolder, "program-credentials");
        try
        {
            if (credentials is not null) WriteCredentials(credentials, values, work);
            return Run(work, from, values);
        }
        finally
        {
            if (credentials is not null) File.Delete(credentials);
        }
    }

    private void WriteCredentials(string path, Dictionary<string, string> values, HopWork work)
    {
        string password = work.Target.Server is { } server
            ? SecretText.Read("password", server.PasswordFile, server.PasswordVariable) ?? "" : "";
        File.Delete(path);
        using (var file = new FileStream(path, new FileStreamOptions
        {
            Mode = FileMode.CreateNew,
            Access = FileAccess.Write,
            UnixCreateMode = UnixFileMode.UserRead | UnixFileMode.UserWrite
        }))
            file.Write(System.Text.Encoding.UTF8.GetBytes(HopPlaceholders.Said(_credentials!, new Dictionary<string, string>(values)
            {
                ["password"] = password
            })));
        values["credentials"] = path;
    }

    private ConversionResult Run(HopWork work, BuildMark from, Dictionary<string, string> values)
    {
        string output = Path.Combine(work.OutputFolder, $"program-{work.Part}{work.Hop.From.Name}-{work.Hop.To.Name}.txt");
        string folder = HopPlaceholders.Said(_folder, values);
        string? log = _log is null ? null : Path.GetFullPath(Path.Combine(folder, HopPlaceholders.Said(_log, values)));
        long logBegan = log is not null && File.Exists(log) ? new FileInfo(log).Length : 0;
        var command = new WatchedCommand([.. _command.Select(part => HopPlaceholders.Said(part, values))], folder,
            _environment.ToDictionary(pair => pair.Key, pair => HopPlaceholders.Said(pair.Value, values)),
            [.. _answers.Select(answer => answer with { Say = HopPlaceholders.Said(answer.Say, values) })], _inTerminal, _limit,
            output)
        {
            Moves = () => LengthOf(log) + (work.Place.IsOnServer ? 0 : LengthOf(work.Place.Path))
        };
        string shown = Path.GetFileName(_command[0]);
        work.Observer.Progress("the vendor's program is at work", 0, 0);
        WatchedResult result = new WatchedProgram(command, (said, still) => work.Observer.Progress(still >= _silence
            ? string.Create(CultureInfo.InvariantCulture, $"{shown} has said and done nothing for {still.TotalMinutes:0} minutes")
            : $"{shown}: {said}", 0, 0), work.Cancel).Run();
        Judge(result, output, log, logBegan);
        return new ConversionResult([], [], new Dictionary<string, long>())
        {
            Remarks = from.Copy?.NotBrought ?? [],
            Program = new ProgramRun(SystemCommands.Shown(_command), result.ExitCode, result.Elapsed.TotalSeconds, output, log ?? ""),
        };
    }

    private static long LengthOf(string? path) => path is not null && File.Exists(path) ? new FileInfo(path).Length : 0;

    // By the exit code, and by every line of its output and of what it wrote to its log.
    private void Judge(WatchedResult result, string output, string? log, long logBegan)
    {
        string shown = SystemCommands.Shown(_command);
        bool hasSucceeded = _success is null;
        string last = "";
        foreach ((string file, long skip) in (IEnumerable<(string, long)>)(log is null ? [(output, 0)] : [(output, 0), (log, logBegan)]))
        {
            if (!File.Exists(file))
                throw new TransferraException($"{shown} wrote no log {file}", $"Correct \"log\" in the kit, or see what it said: {output}");
            using var stream = new FileStream(file, FileMode.Open, FileAccess.Read, FileShare.ReadWrite);
            if (stream.Length >= skip) stream.Seek(skip, SeekOrigin.Begin);
            using var text = new StreamReader(stream);
            for (int number = 1; text.ReadLine() is { } line; number++)
            {
                if (line.Length > 0) last = line;
                if (_failures.FirstOrDefault(mark => mark.IsMatch(line)) is not null)
                    throw Failed($"{shown} says that it failed: {line}", file, number, output);
                hasSucceeded |= _success?.IsMatch(line) == true;
            }
        }
        if (!_exitCodes.Contains(result.ExitCode))
            throw Failed(string.Create(CultureInfo.InvariantCulture, $"{shown} ended with exit code {result.ExitCode}; the last it "
                + $"said: {last}"),
                output, 0, output);
        if (!hasSucceeded) throw Failed($"{shown} ended, and nowhere says what it says when it is through ({_success})", output, 0, output);
    }

    private static TransferraException Failed(string what, string file, int line, string output) => new(what
        + (line > 0 ? string.Create(CultureInfo.InvariantCulture, $" ({file}, line {line})") : ""),
        $"It was given a copy, which is thrown away. All it said: {output}. Send it to the vendor.");
}
