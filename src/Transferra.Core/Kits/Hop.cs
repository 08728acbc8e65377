// Hop.cs: the conversion from one data version to the next: a beginning, means and a correspondence, which know nothing of each other.
namespace Transferra.Core.Kits;

/// <summary>A hop.</summary>
/// <param name="Beginning">What the new store starts as.</param>
/// <param name="Means">Who converts.</param>
/// <param name="Correspondence">Which old table and column answers to which new one. All that comes after the conversion (check, match,
/// custom fields, sign-off) goes by it and knows neither beginning nor means.</param>
/// <param name="Settings">What must be answered before.</param>
/// <param name="File">The hop's file, for messages.</param>
public sealed record Hop(IBeginning Beginning, IMeans Means, Correspondence Correspondence, IReadOnlyList<NewSetting> Settings,
    string File)
{
    /// <summary>Old version.</summary>
    public KitVersion From => Correspondence.From;

    /// <summary>New version.</summary>
    public KitVersion To => Correspondence.To;

    /// <summary>What the hop says of tables and columns that do not answer to each other by their names, where others convert; null where
    /// our maps do.</summary>
    internal HopByNames? ByNames { get; init; }

    /// <summary>What has to be the case around it.</summary>
    public HopSurroundings Surroundings { get; init; } = HopSurroundings.None;

    /// <summary>What the vendor says that must be known before; each is to be acknowledged.</summary>
    public IReadOnlyList<string> ReleaseNotes { get; init; } = [];
}

/// <summary>A setting that is new in a version and must be answered in office.yaml.</summary>
/// <param name="Name">The name in office.yaml and in expressions, as <c>:name</c>.</param>
/// <param name="Question">What is asked.</param>
/// <param name="Choices">Allowed answers; empty when any text will do.</param>
public sealed record NewSetting(string Name, string Question, IReadOnlyList<string> Choices)
{
    /// <summary>Refuses what needs an answer that nobody has given.</summary>
    /// <param name="needed">Names of the answers that it needs.</param>
    /// <param name="answers">Those that were given.</param>
    /// <param name="what">What needs them.</param>
    /// <exception cref="Machine.TransferraException">One is missing.</exception>
    internal static void Require(IEnumerable<string> needed, IReadOnlyDictionary<string, string> answers, string what)
    {
        if (needed.FirstOrDefault(name => !answers.ContainsKey(name)) is { } missing)
            throw new Machine.TransferraException($"{what} needs the answer {missing}, and nobody has given it",
                $"Answer it in office.yaml, under the company: answers: {{{missing}: ...}}");
    }
}
