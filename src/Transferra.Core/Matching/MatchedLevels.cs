// MatchedLevels.cs: what a match says beside the records: what both stores tell of their version, and the program of its own, the settings
// that the kit names, and the documents by their digests.
// Why they are no part of the verdict: a setting is meant to change where the new version says so, and people write documents every day;
// what differs is told, and is a reason to look.
namespace Transferra.Core.Matching;

/// <summary>Levels of a match beside the records.</summary>
/// <param name="OldVersion">The data version that the old store tells; null when it tells none.</param>
/// <param name="NewVersion">That of the new store.</param>
/// <param name="Settings">Settings in records that the kit names for both versions.</param>
/// <param name="Documents">The company's documents; null where it has none, or no set was made of them.</param>
public sealed record MatchedLevels(string? OldVersion, string? NewVersion, IReadOnlyList<SettingMatched> Settings,
    DocumentsMatched? Documents)
{
    /// <summary>The installed program; null where nothing tells its version, neither then nor now.</summary>
    public ProgramMatched? Program { get; init; }

    /// <summary>Whether a document is gone, altered, or could not be read or compared.</summary>
    public bool IsToLookAt => Documents is { IsSame: false };
}

/// <summary>The installed program beside its data.</summary>
/// <param name="Before">Its version when the run began; null when nothing told it, or the places that tell it disagreed.</param>
/// <param name="Now">Its version now.</param>
/// <param name="Data">The data version that it is to open.</param>
/// <param name="Wanted">The program versions that open that, in words; "" when the kit does not say.</param>
/// <param name="Opens">Whether it opens that; null when nobody can tell.</param>
public sealed record ProgramMatched(string? Before, string? Now, string Data, string Wanted, bool? Opens)
{
    /// <summary>In words.</summary>
    /// <param name="now">When "now" was, for what is read later.</param>
    public string Words(string now = "now") => $"{Before ?? "not told"} when the run began, {Now ?? "not told"} {now}" + (Opens switch
    {
        true => $", which opens data of version {Data}",
        false => $", which does not open data of version {Data}; it needs program version {Wanted}",
        null => ""
    });
}

/// <summary>A setting on both sides.</summary>
/// <param name="Name">As the kit calls it.</param>
/// <param name="Old">What it was; null for none.</param>
/// <param name="New">What it is.</param>
public sealed record SettingMatched(string Name, string? Old, string? New)
{
    /// <summary>Whether it is the same.</summary>
    public bool IsSame => Old == New;
}

/// <summary>Documents held against a backup set.</summary>
/// <param name="Set">The set; "" when none could be read.</param>
/// <param name="MadeAt">When it was made, UTC.</param>
/// <param name="Same">Files and links that are what they were.</param>
/// <param name="Bytes">Size of these files.</param>
/// <param name="Altered">Those that are there with another content.</param>
/// <param name="Gone">Those that are not there.</param>
/// <param name="Added">Those that came since.</param>
/// <param name="NotCompared">Why they were not compared; "" when they were.</param>
public sealed record DocumentsMatched(string Set, DateTimeOffset MadeAt, long Same, long Bytes, NamedFiles Altered, NamedFiles Gone,
    NamedFiles Added, string NotCompared = "")
{
    /// <summary>Those that cannot be read now, so that nobody knows whether they are what they were.</summary>
    public NamedFiles Unread { get => field ?? NamedFiles.None; init; }

    /// <summary>Whether each is what it was. What was added is no loss.</summary>
    public bool IsSame => NotCompared.Length == 0 && Altered.Count + Gone.Count + Unread.Count == 0;

    /// <summary>What is not as it was, in words.</summary>
    [System.Text.Json.Serialization.JsonIgnore]
    public IEnumerable<(string What, NamedFiles Files)> Others => ((string What, NamedFiles Files)[])[("altered", Altered), ("gone", Gone),
        ("not readable", Unread), ("added since", Added)];

    /// <summary>Documents that were not compared.</summary>
    public static DocumentsMatched Not(string why) => new("", default, 0, 0, NamedFiles.None, NamedFiles.None, NamedFiles.None, why);
}

/// <summary>Some files: how many, and the names of the first.</summary>
/// <param name="Count">How many.</param>
/// <param name="First">Names of at most <see cref="Most"/>, in order.</param>
public sealed record NamedFiles(long Count, IReadOnlyList<string> First)
{
    /// <summary>How many are named.</summary>
    public const int Most = 1000;

    /// <summary>None.</summary>
    public static readonly NamedFiles None = new(0, []);

    /// <summary>Files by their names.</summary>
    public static NamedFiles Of(IReadOnlyCollection<string> names) => new(names.Count, [.. names.Order(StringComparer.Ordinal).Take(Most)]);
}
