// ClosingScreen.cs: what closing and reopening look like: a line for each thing that is changed, and a live line while people are waited
// for.
using System.Globalization;
using Transferra.Core.Closing;

namespace Transferra.Cli.Rendering;

internal sealed class ClosingScreen(Screen screen) : IClosingObserver
{
    public void StepDone(ClosingStep step, string words) => screen.Line($"  {words}");

    public void StepFailed(ClosingStep step, string what, string next)
    {
        screen.Bad($"  NOT as it was: {what}");
        screen.Line($"    {next}");
    }

    public void Waiting(IReadOnlyList<PersonIn> people, TimeSpan left) =>
        screen.Progress.Show(string.Create(CultureInfo.InvariantCulture,
            $"waiting for {Results.Count(people.Count, "session")} to leave, {left.TotalSeconds:0} s more: {people[0].Company} "
                + $"{people[0].Session.Words}"), 0, 0);

    public void Ended(PersonIn person) => screen.Look($"  ended: {person.Company} {person.Session.Words}");

    /// <summary>A table of who is in.</summary>
    public static void People(Screen screen, IReadOnlyList<PersonIn> people) =>
        screen.Table(["Company", "Who", "From", "With", "What it does", "Whose"], people.Select(person => (IReadOnlyList<string>)
            [person.Company, person.Session.User.Length > 0 ? person.Session.User : "-", person.Session.Host,
                person.Session.Program.Length > 0
                ? person.Session.Program : "-", person.Session.Doing.Length > 0 ? person.Session.Doing : "-",
                person.Service.Length > 0 ? $"the service {person.Service}" : "a person's"]));
}
