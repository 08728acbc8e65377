// MatchBaseline.cs: match --baseline: a store, or another set, against what a set tells of its records, without unpacking it.
// Why: a set in a far place need not be fetched for it, and no record of it is read.
// Holds: (1) a set's baseline counts only when its seal is that of its manifest; (2) "proved" is not said, as the set's own records were
// not looked at.
using Transferra.Cli.Rendering;
using Transferra.Core.Backup;
using Transferra.Core.Machine;
using Transferra.Core.Matching;
using Transferra.Core.Records;

namespace Transferra.Cli.Commands;

internal static class MatchBaseline
{
    internal sealed record BaselineMatched(string Old, string New, bool Same, string Version, DateTimeOffset At, long Later,
        IReadOnlyList<SinceTable> Tables, IReadOnlyList<string> NotRecorded);

    /// <summary>Runs it.</summary>
    /// <param name="session">The call.</param>
    /// <param name="from">A set.</param>
    /// <param name="to">A set, or anything else that can be named.</param>
    public static int Run(Session session, string from, string to)
    {
        if (!SetPlaces.IsNamedLikeSet(from))
            throw new TransferraException($"--baseline needs a backup set as --old, and {from} is not named like one",
                "Leave --baseline out to compare the records of two stores.");
        (SetManifest set, RecordedStore then, string old) = Recorded(session, from);
        session.Screen.Heading("match: are the records those that the set tells of?");
        session.Screen.Line($"old: {old}");
        SinceRecorded since;
        string renewed;
        if (SetPlaces.IsNamedLikeSet(to))
        {
            (_, RecordedStore now, renewed) = Recorded(session, to);
            session.Screen.Line($"new: {renewed}");
            since = RecordedMatch.Run(now, then);
        }
        else
        {
            using NamedPlace place = NamedPlace.Of(session, to);
            renewed = place.Shown;
            session.Screen.Line($"new: {renewed}");
            // Texts of the same engine are in the code page that the kit told of when the set was made.
            using IStore store = session.Stores.Open(place.Side.Address, place.Side.Address.Engine == set.Store.Engine
                ? set.Store.TextEncoding : place.Side.TextEncoding);
            since = RecordedMatch.Run(store, then, session.Observer().At("match"), session.Cancel);
        }
        MatchedSinceText.TellBaseline(session.Screen, since, bothSets: SetPlaces.IsNamedLikeSet(to));
        bool isSame = since is { IsSame: true, Later: 0, NotRecorded.Count: 0 };
        return session.Answer(isSame ? ExitCodes.Done : ExitCodes.LookAt, new BaselineMatched(old, renewed, isSame, since.Version, since.At,
            since.Later, since.Tables, since.NotRecorded));
    }

    private static (SetManifest Set, RecordedStore Store, string Shown) Recorded(Session session, string place)
    {
        string path = place.Contains("://", StringComparison.Ordinal) ? place : Path.GetFullPath(place);
        SetManifest manifest = (session.HasOffice ? session.Sets : session.BareSets).ReadSealed(path).Manifest;
        return (manifest, manifest.Recorded() ?? throw new TransferraException($"the set {path} was made by an earlier release of "
            + "Transferra, which kept too little for --baseline",
            "Leave it out: the set is unpacked then, and its records are compared."),
            $"{path} ({manifest.Label.Company} of {manifest.Label.MadeAt:yyyy-MM-dd HH:mm} UTC), what it tells of its records");
    }
}
