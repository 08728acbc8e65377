// PersonAsked.cs: asks whoever sits there whether they answer for what the vendor's conversion changed and nobody explained.
using Transferra.Cli.Rendering;
using Transferra.Core.Matching;
using Transferra.Core.Runs;

namespace Transferra.Cli;

internal sealed class PersonAsked(Screen screen, CancellationToken cancel) : IPersonAsked
{
    private string? _name;

    /// <inheritdoc/>
    public (string By, string Because)? AnswersFor(string company, Unexplained what)
    {
        screen.Line();
        screen.Look($"{company}, version {what.To}: {what.Words}, and nobody has said why.");
        foreach (string example in what.Examples) screen.Line("  for example " + example);
        screen.Prompt("If you answer for that, type why it is meant; to stop here, just press Enter: ");
        if (Screen.ReadLine(cancel)?.Trim() is not { Length: > 0 } because) return null;
        while (string.IsNullOrWhiteSpace(_name))
        {
            screen.Prompt("Your name, for the sign-off: ");
            if (Screen.ReadLine(cancel) is not { } typed) return null;
            _name = typed.Trim();
        }
        return (_name, because);
    }
}
