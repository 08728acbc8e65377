// MatchedLevelsText.cs: what a match says beside the records, in words.
using Transferra.Core.Matching;

namespace Transferra.Cli.Rendering;

internal static class MatchedLevelsText
{
    private const int Shown = 10;

    public static void Tell(Screen screen, MatchedLevels levels)
    {
        screen.Line($"Data version: {levels.OldVersion ?? "not told"} in the old store, {levels.NewVersion ?? "not told"} in the new one.");
        // Before the change-over it is the old one, as it should be, so that this is no warning.
        if (levels.Program is { } program) screen.Line($"Program version: {program.Words()}.");
        if (levels.Settings.Count > 0)
        {
            SettingMatched[] changed = [.. levels.Settings.Where(setting => !setting.IsSame)];
            screen.Line($"Settings that the kit names: {levels.Settings.Count - changed.Length} unchanged"
                + (changed.Length == 0 ? "." : $", {changed.Length} changed:"));
            foreach (SettingMatched setting in changed)
                screen.Line($"  {setting.Name}: {setting.Old ?? "(none)"} became {setting.New ?? "(none)"}");
        }
        if (levels.Documents is { } documents) Tell(screen, documents);
    }

    private static void Tell(Screen screen, DocumentsMatched documents)
    {
        if (documents.NotCompared.Length > 0)
        {
            screen.Look($"Documents: not compared: {documents.NotCompared}");
            return;
        }
        (string What, NamedFiles Files)[] others = [.. documents.Others.Where(other => other.Files.Count > 0)];
        string said = $"Documents: {Results.Count(documents.Same, "file is", "files are")} unchanged since the set of "
            + documents.MadeAt.UtcDateTime.ToString("yyyy-MM-dd HH:mm", System.Globalization.CultureInfo.InvariantCulture)
            + " UTC, compared by SHA-256" + string.Concat(others.Select(other => $"; {Results.Number(other.Files.Count)} {other.What}"))
            + (others.Length > 0 ? ":" : ".");
        if (documents.IsSame) screen.Line(said);
        else screen.Look(said);
        foreach ((string what, NamedFiles files) in others)
        {
            foreach (string name in files.First.Take(Shown)) screen.Line($"  {what}: {name}");
            if (files.Count > Shown) screen.Line($"  and {Results.Number(files.Count - Shown)} more {what}: transferra match --json");
        }
    }
}
