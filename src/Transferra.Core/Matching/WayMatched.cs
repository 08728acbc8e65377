// WayMatched.cs: what the match of a company's whole way says, and its verdict; made by WayMatch.cs.
// Holds: (1) it is proved only when nothing differs, or is gone, or was not looked at, that an old record could be in; (2) what a person
//        answers for is never proved, and nothing counts as answered for that is not counted by table, kind and number.
using System.Text.Json.Serialization;
using Transferra.Core.Machine;

namespace Transferra.Core.Matching;

/// <summary>What a match comes to.</summary>
[JsonConverter(typeof(InWords<Verdict>))]
public enum Verdict
{
    /// <summary>Every old record and value is accounted for and the same.</summary>
    Proved,
    /// <summary>The same, but for what others changed and nobody explained, for which a person has answered.</summary>
    AnsweredFor,
    /// <summary>What was carried is the same, but not all is: there are exceptions, or something new that nothing stands for.</summary>
    ProvedInPart,
    /// <summary>Something differs, or something old was not looked at.</summary>
    NotProved,
}

/// <summary>Something that was not looked at.</summary>
/// <param name="Side">old or new.</param>
/// <param name="Version">The data version of that side.</param>
/// <param name="What">The thing, as a person names it.</param>
/// <param name="Records">How many records it has; 0 for what has none.</param>
/// <param name="Allows">The best verdict that is left with it.</param>
public sealed record NotLookedAt(string Side, string Version, string What, long Records, Verdict Allows);

/// <summary>Tables or columns that only one of two stores has, where others converted.</summary>
/// <param name="IsGone">Whether the old store has them; otherwise they are new.</param>
/// <param name="Version">The version that has them.</param>
/// <param name="What">The things, as a person names them.</param>
public sealed record OnOneSide(bool IsGone, string Version, string What)
{
    /// <summary>Of what is gone: the version that has it no more, its table, the column ("" for the whole table), and how many records
    /// had it.</summary>
    public Unexplained? Gone { get; init; }
}

/// <summary>The match of a company.</summary>
/// <param name="Hops">Each hop.</param>
/// <param name="OverTheWay">Control totals of versions that are no neighbours: the first and the last that have one, and where those
/// between do not.</param>
/// <param name="NotLookedAt">What was not looked at.</param>
public sealed record WayMatched(IReadOnlyList<MatchResult> Hops, IReadOnlyList<TotalMatch> OverTheWay,
    IReadOnlyList<NotLookedAt> NotLookedAt)
{
    /// <summary>Where others converted, what only one of the stores has. What is gone and not explained is not proved.</summary>
    public IReadOnlyList<OnOneSide> OnOneSide { get => field ?? []; init; }

    /// <summary>What the converted store declares, against one that the new program made when it was first started ("old" there); null
    /// where office.yaml names none. Nothing follows from it.</summary>
    public DeclarationsMatched? WithFresh { get; init; }

    /// <summary>What could be written into the kit to explain what does not come out even, where others converted.</summary>
    public IReadOnlyList<Proposal> Proposals { get => field ?? []; init; }

    /// <summary>Tables of which a sample was compared, as was asked for; none otherwise.</summary>
    public IReadOnlyList<SampledTable> Sampled { get => field ?? []; init; }

    /// <summary>What is said beside the records; null where only two places were compared.</summary>
    public MatchedLevels? Levels { get; init; }

    /// <summary>Old records that could not be converted, over the whole way.</summary>
    public long Exceptions => Hops.Sum(hop => hop.Exceptions);

    /// <summary>All differences.</summary>
    public long Differences => Hops.Sum(hop => hop.DifferenceCount);

    /// <summary>The share of values compared of the hop in which it is least; null where none counted them.</summary>
    public ComparedShare? LeastShare => Hops.Select(hop => hop.Share).OfType<ComparedShare>().MinBy(share => share.Hundredths);

    /// <summary>Control totals that disagree.</summary>
    public int TotalsThatDisagree => Hops.Sum(hop => hop.Totals.Count(total => !total.IsSame)) + OverTheWay.Count(total => !total.IsSame);

    /// <summary>What a person has answered for.</summary>
    public IReadOnlyList<AnsweredFor> Answered { get => field ?? []; init; }

    /// <summary>Where others converted, what nobody has explained nor answered for.</summary>
    public IReadOnlyList<Unexplained> Unexplained => [.. Differing().Where(what => !Answered.Any(given =>
        what.IsAbout(given.What.To, given.What.Kind, given.What.Table, given.What.Column) && what.Records <= given.AtMost))
        .Select(what => what with { AnsweredForAtMost = Outgrown.FirstOrDefault(given =>
            what.IsAbout(given.To, given.Kind, given.Table, given.Column))?.AtMost ?? 0 })];

    /// <summary>Answers that were given for fewer than there are.</summary>
    public IReadOnlyList<Answer> Outgrown { get => field ?? []; init; }

    /// <summary>The same with what people have answered for.</summary>
    public WayMatched With(IEnumerable<Answer> answers)
    {
        var all = answers.ToList();
        var answered = new List<AnsweredFor>(Answered);
        var outgrown = new List<Answer>(Outgrown);
        foreach (Unexplained what in Unexplained)
        {
            Answer[] given = [.. all.Where(one => what.IsAbout(one.To, one.Kind, one.Table, one.Column))
                .OrderByDescending(one => one.AtMost)];
            if (given.Length == 0) continue;
            if (given[0].AtMost < what.Records) outgrown.Add(given[0]);
            else answered.Add(new AnsweredFor(what, given[0].AtMost, given[0].By, given[0].Because));
        }
        return this with { Answered = answered, Outgrown = outgrown };
    }

    /// <summary>Whether the verdict would allow a change-over if somebody answered for all that is not explained.</summary>
    public bool NeedsOnlyAnswers => Verdict == Verdict.NotProved && Unexplained.Count > 0
        && With(Unexplained.Select(what => new Answer(what.To, what.Kind, what.Table, what.Column, what.Records, "", ""))).Verdict
            == Verdict.AnsweredFor;

    private IEnumerable<Unexplained> Differing()
    {
        foreach (MatchResult hop in Hops.Where(hop => hop.IsByOthers))
            foreach (TableMatch table in hop.Tables)
            {
                if (table.Missing > 0) yield return Of(hop, table.Table, UnexplainedKind.Gone, "", table.Missing);
                if (table.Extra > 0) yield return Of(hop, table.Table, UnexplainedKind.New, "", table.Extra);
                foreach ((string column, long records) in table.ChangedColumns)
                    yield return Of(hop, table.Table, UnexplainedKind.Changed, column, records);
            }
        foreach (OnOneSide part in OnOneSide)
            if (part.Gone is { } gone) yield return gone;
        foreach (IGrouping<(string Name, string ToVersion), TotalMatch> total in Hops.Where(hop => hop.IsByOthers)
            .SelectMany(hop => hop.Totals).Concat(IsByOthers ? OverTheWay : []).Where(total => !total.IsSame)
            .GroupBy(total => (total.Name, total.ToVersion)))
            yield return new Unexplained(total.Key.ToVersion, UnexplainedKind.Total, total.Key.Name, "",
                total.Sum(one => one.Lines.Count(line => !line.IsSame)))
            {
                Examples = [.. total.First().Lines.Where(line => !line.IsSame).Take(3)
                    .Select(line => $"{line.Label}: {line.Old ?? "(none)"} became {line.New ?? "(none)"}")]
            };
    }

    private bool IsByOthers => Hops.Any(hop => hop.IsByOthers);

    private static Unexplained Of(MatchResult hop, string table, UnexplainedKind kind, string column, long records) =>
        new(hop.ToVersion, kind, table, column, records)
        {
            Examples = [.. hop.Differences.Where(one => one.Table == table && one.Column == column && one.Kind == (kind switch
            {
                UnexplainedKind.Gone => DifferenceKind.Missing,
                UnexplainedKind.New => DifferenceKind.Extra,
                _ => DifferenceKind.Value
            })).Take(3).Select(one => kind == UnexplainedKind.Changed ? $"{one.Key}: {one.Expected} became {one.Found}" : one.Key)]
        };

    // Whether all that is wrong with a hop is among what a person can answer for.
    private static bool IsCounted(MatchResult hop) => hop.IsSame || hop.IsByOthers && hop.Accounts.All(account => account.IsBalanced)
        && hop.Tables.All(table => table.IsSame || table.Missing + table.Extra + table.Changed > 0)
        && hop.DifferenceCount == hop.Tables.Sum(table => table.Missing + table.Extra + table.ChangedColumns.Values.Sum());

    /// <summary>The verdict.</summary>
    public Verdict Verdict
    {
        get
        {
            if (!Hops.All(IsCounted) || !OverTheWay.All(total => total.IsSame || IsByOthers)
                || OnOneSide.Any(part => part is { IsGone: true, Gone: null }) || Unexplained.Count > 0)
                return Verdict.NotProved;
            bool isWhole = Exceptions == 0 && Hops.All(hop => hop.Declarations?.Lost.Count is null or 0);
            return NotLookedAt.Select(left => left.Allows).Append(!isWhole ? Verdict.ProvedInPart
                : Answered.Count > 0 ? Verdict.AnsweredFor : Verdict.Proved).Max();
        }
    }
}
