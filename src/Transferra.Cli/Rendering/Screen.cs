// Screen.cs: words and tables for a person, at most 100 columns; no colour or animation where nobody looks.
using Spectre.Console;

namespace Transferra.Cli.Rendering;

internal sealed class Screen : IDisposable
{
    public const int Width = 100;

    private readonly IAnsiConsole? _console;
    private readonly bool _colour;

    public Screen(bool silent)
    {
        _colour = !Console.IsOutputRedirected && string.IsNullOrEmpty(Environment.GetEnvironmentVariable("NO_COLOR"));
        Progress = new ProgressLine(active: !silent && !Console.IsErrorRedirected && !Console.IsOutputRedirected);
        if (silent) return;
        _console = AnsiConsole.Create(new AnsiConsoleSettings
        {
            Ansi = _colour ? AnsiSupport.Detect : AnsiSupport.No,
            ColorSystem = _colour ? ColorSystemSupport.Detect : ColorSystemSupport.NoColors,
            Interactive = InteractionSupport.No,
        });
        _console.Profile.Width = Console.IsOutputRedirected ? Width : Math.Clamp(_console.Profile.Width, 60, Width);
        _console.Profile.Capabilities.Unicode = true;
    }

    public ProgressLine Progress { get; }

    /// <summary>A heading with a blank line before it.</summary>
    public void Heading(string text)
    {
        Line();
        Write(new Markup($"[bold]{Markup.Escape(SafeText.OneLine(text))}[/]"));
        Line();
    }

    /// <summary>A line; what does not fit goes on below, as far to the right as the line begins.</summary>
    public void Line(string text = "")
    {
        string safe = SafeText.Lines(text), words = safe.TrimStart(' ');
        if (_console is null || safe.Length <= _console.Profile.Width || words.Length == safe.Length || safe.Contains('\n'))
            Write(new Text(safe + "\n"));
        else Write(new Padder(new Text(words), new Padding(safe.Length - words.Length, 0, 0, 0)));
    }

    /// <summary>A line that is to be copied: not broken, whatever the width.</summary>
    public void Verbatim(string text)
    {
        Progress.Clear();
        if (_console is not null) Try(() => Console.Out.WriteLine(SafeText.OneLine(text)));
    }

    /// <summary>A line with the colour of how it went.</summary>
    public void Good(string text) => Write(new Markup($"[green]{Markup.Escape(SafeText.OneLine(text))}[/]\n"));

    public void Bad(string text) => Write(new Markup($"[red]{Markup.Escape(SafeText.OneLine(text))}[/]\n"));

    public void Look(string text) => Write(new Markup($"[yellow]{Markup.Escape(SafeText.OneLine(text))}[/]\n"));

    public void Prompt(string text)
    {
        Progress.Clear();
        Try(() => Console.Out.Write(SafeText.Lines(text)));
    }

    /// <summary>A line that is typed; whoever wants to stop need not type one.</summary>
    public static string? ReadLine(CancellationToken cancel)
    {
        Task<string?> typed = Task.Run(Console.ReadLine, CancellationToken.None);
        try { typed.Wait(cancel); }
        catch (AggregateException error) when (error.InnerException is IOException) { return null; }
        return typed.Result;
    }

    /// <summary>Asks for something that is not shown while it is typed; null when nothing is.</summary>
    public string? AskSecret(string text)
    {
        Progress.Clear();
        Console.Error.Write(text);
        var typed = new System.Text.StringBuilder();
        for (ConsoleKeyInfo key; (key = Console.ReadKey(intercept: true)).Key != ConsoleKey.Enter;)
            if (key.Key == ConsoleKey.Backspace) typed.Length = Math.Max(0, typed.Length - 1);
            else if (!char.IsControl(key.KeyChar)) typed.Append(key.KeyChar);
        Console.Error.WriteLine();
        return typed.Length > 0 ? typed.ToString() : null;
    }

    public void Error(string text)
    {
        Progress.Clear();
        Try(() => Console.Error.WriteLine(text.StartsWith(' ') ? SafeText.OneLine(text) : "transferra: " + SafeText.Lines(text)));
    }

    /// <summary>A remark on stderr, so that it is seen beside a JSON document, too.</summary>
    public void Notice(string text)
    {
        Progress.Clear();
        Try(() => Console.Error.WriteLine(_colour && !Console.IsErrorRedirected ? $"\x1b[33m{SafeText.OneLine(text)}\x1b[0m"
            : SafeText.OneLine(text)));
    }

    public void Write(Spectre.Console.Rendering.IRenderable renderable)
    {
        Progress.Clear();
        if (_console is { } console) Try(() => console.Write(renderable));
    }

    /// <summary>A word with a text behind it, wrapped beside it.</summary>
    /// <param name="word">The word.</param>
    /// <param name="text">The text.</param>
    /// <param name="width">Room for the word.</param>
    public void Paragraph(string word, string text, int width = 14)
    {
        Progress.Clear();
        var grid = new Grid().AddColumn(new GridColumn { Width = width, Padding = new Padding(2, 0, 2, 0) })
            .AddColumn(new GridColumn { Padding = new Padding(0, 0, 0, 0) });
        grid.AddRow(Markup.Escape(word), Markup.Escape(SafeText.Lines(text)));
        Write(grid);
    }

    /// <summary>A table; heads that begin with "&gt;" are numbers, set to the right.</summary>
    public void Table(IReadOnlyList<string> heads, IEnumerable<IReadOnlyList<string>> rows)
    {
        var table = new Table { Border = TableBorder.Simple, UseSafeBorder = true };
        foreach (string head in heads)
        {
            bool number = head.StartsWith('>');
            var column = new TableColumn(Markup.Escape(number ? head[1..] : head)) { Padding = new Padding(0, 0, 1, 0) };
            if (number) column.RightAligned().NoWrap();
            table.AddColumn(column);
        }
        foreach (IReadOnlyList<string> row in rows) table.AddRow([.. row.Select(Cell)]);
        Write(table);
    }

    private static Markup Cell(string text) => new(text switch
    {
        "proved" or "yes" or "through" or "passed" => $"[green]{text}[/]",
        "NO" or "fault" or "not whole" or "not proved" or "stopped" or "blocked" => $"[red]{text}[/]",
        _ when text.StartsWith("NO,", StringComparison.Ordinal) || text.StartsWith("NO:", StringComparison.Ordinal) =>
            $"[red]{Markup.Escape(SafeText.Lines(text))}[/]",
        "warning" or "your word" or "will stop" => $"[yellow]{text}[/]",
        _ => Markup.Escape(SafeText.Lines(text)),
    });

    /// <summary>Why what was to be shown could not be written; null when it could. The work goes on: a full disk behind standard output
    /// is no reason to stop in the middle of it.</summary>
    public string? Unwritten { get; private set; }

    /// <summary>Writes to the console; what cannot be written is remembered, once.</summary>
    public void Try(Action write)
    {
        try { write(); }
        catch (IOException error) { Unwritten ??= error.Message; }
    }

    public void Dispose() => Progress.Dispose();
}
