// BookRules.cs: what must hold in the books of a version: of groups of records, of one table against another, of each record.
using Transferra.Core.Expressions;
using Transferra.Core.Records;

namespace Transferra.Core.Kits;

/// <summary>Something that must hold in the books.</summary>
/// <param name="Name">As a bookkeeper would say it.</param>
public abstract record BookRule(string Name)
{
    /// <summary>The names of the answers that it needs.</summary>
    internal abstract IEnumerable<string> Answers { get; }
}

/// <summary>A sum over groups of records that must have one value, such as a voucher that balances; or that must equal the same groups'
/// sum over another table, such as stock on hand and its movements.</summary>
/// <param name="Name">As a bookkeeper would say it.</param>
/// <param name="Side">What is added up.</param>
/// <param name="Other">What it must equal; null when it must equal <paramref name="MustBe"/>.</param>
/// <param name="MustBe">The value each group must have, in units of 10^-<paramref name="Scale"/>; 0 when there is another side.</param>
/// <param name="Tolerance">How far it may be away, in the same units.</param>
/// <param name="Scale">Digits after the point of both sides, the greater of the two.</param>
/// <param name="OnlyCommon">Whether a group that only one side has is passed over; otherwise it counts as 0 there.</param>
public sealed record GroupRule(string Name, RuleSide Side, RuleSide? Other, Int128 MustBe, Int128 Tolerance, int Scale, bool OnlyCommon)
    : BookRule(Name)
{
    /// <inheritdoc/>
    internal override IEnumerable<string> Answers => Other is null ? Side.Answers : Side.Answers.Concat(Other.Answers);
}

/// <summary>One side of a rule over groups.</summary>
/// <param name="Table">The table.</param>
/// <param name="By">Values that make a group.</param>
/// <param name="ByText">The same as the kit writes them.</param>
/// <param name="Sum">What is added up; an exact number.</param>
/// <param name="Where">Which records count; null for all.</param>
public sealed record RuleSide(TableShape Table, IReadOnlyList<Expression> By, IReadOnlyList<string> ByText, Expression Sum,
    Expression? Where)
{
    /// <summary>Records of other tables that it looks at.</summary>
    internal IReadOnlyList<LookupMap> Lookups { get; init; } = [];

    internal IEnumerable<string> Answers => By.Append(Sum).Append(Where).OfType<Expression>().SelectMany(part => part.Answers);
}

/// <summary>A condition that each record must meet, such as net pay being gross less deductions.</summary>
/// <param name="Name">As a bookkeeper would say it.</param>
/// <param name="Table">The table.</param>
/// <param name="Holds">The condition; a record for which it cannot be told passes.</param>
/// <param name="Where">Which records count; null for all.</param>
/// <param name="Lookups">Records of other tables that it looks at.</param>
internal sealed record RecordRule(string Name, TableShape Table, Expression Holds, Expression? Where, IReadOnlyList<LookupMap> Lookups)
    : BookRule(Name)
{
    /// <inheritdoc/>
    internal override IEnumerable<string> Answers => new[] { Holds, Where }.OfType<Expression>().SelectMany(part => part.Answers);
}
