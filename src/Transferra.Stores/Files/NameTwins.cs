// NameTwins.cs: refuses names that differ only by case.
// Why: kits spell names in another case than stores do, so names are compared without regard to it. Of two tables t and T one would be read
// twice and the other never, and all would seem to be there.
// Holds: (1) where there is such a pair, it is refused with both names, in whatever order they come.
using Transferra.Core.Machine;

namespace Transferra.Stores.Files;

internal static class NameTwins
{
    /// <summary>What to do about it in a database.</summary>
    public const string InDatabase = "Ask the vendor which of them the program uses, and have the other one renamed or moved out of the "
        + "database.";

    /// <summary>Refuses a pair of names.</summary>
    /// <param name="whatHasThem">The beginning of the sentence: "the folder data has two tables".</param>
    /// <param name="names">The names.</param>
    /// <param name="next">What to do about it.</param>
    /// <exception cref="TransferraException">Two are the same but for their case.</exception>
    public static void Refuse(string whatHasThem, IEnumerable<string> names, string next)
    {
        var seen = new Dictionary<string, string>(StringComparer.OrdinalIgnoreCase);
        foreach (string name in names)
            if (!seen.TryAdd(name, name))
            {
                string[] pair = [.. new[] { seen[name], name }.Order(StringComparer.Ordinal)];
                string how = pair[0] == pair[1] ? $"named {name}" : $"whose names differ only by case, {pair[0]} and {pair[1]}";
                throw new TransferraException($"{whatHasThem} {how}, which cannot be told apart here", next);
            }
    }
}
