// SetsCommand.cs: sets: which backup sets are there?
using Transferra.Cli.Rendering;
using Transferra.Core.Backup;
using Transferra.Core.Runs;

namespace Transferra.Cli.Commands;

internal static class SetsCommand
{
    private sealed record SetListed(string Path, string Company, string Package, string DataVersion, DateTimeOffset MadeAt, string MadeBy, long Bytes, int Files);

    public static int Run(Session session)
    {
        SetListed[] sets = [.. session.Office.BackupFolders.SelectMany(BackupSets.List).Select(set =>
            new SetListed(set.Path, set.Manifest.Company, set.Manifest.Package, set.Manifest.DataVersion, set.Manifest.MadeAt, set.Manifest.MadeBy, set.Bytes, set.Manifest.Members.Count))];
        if (sets.Length == 0) session.Screen.Line("There are no backup sets in " + string.Join(", ", session.Office.BackupFolders));
        else
            session.Screen.Table(["Company", "Version", "Made (UTC)", ">Files", ">Size", "Set"], sets.Select(set => (IReadOnlyList<string>)
                [set.Company, set.DataVersion, set.MadeAt.UtcDateTime.ToString("yyyy-MM-dd HH:mm:ss", System.Globalization.CultureInfo.InvariantCulture), Results.Number(set.Files), Sizes.Of(set.Bytes), Path.GetFileName(set.Path)]));
        return session.Answer(ExitCodes.Done, sets);
    }
}
