// RuleJudge.cs: tells what an engine will not take, by the rules by which its builder refuses, and those by which the engine itself does.
using Transferra.Core.Records;

namespace Transferra.Stores;

/// <summary>Finds rows that an engine does not take.</summary>
internal delegate void RowRule(IReadOnlyList<TableOutput> outputs, ReadOnlySpan<int> rows, ICollection<RowReject> rejects);

/// <summary>A judge put together from rules.</summary>
/// <param name="Engine">The engine's name, for messages.</param>
/// <param name="Rules">Names that the engine takes.</param>
/// <param name="Rows">Finds rows that it does not take.</param>
/// <param name="KeepsKeys">Whether it refuses a second record with the same key.</param>
/// <param name="IgnoresTrailingBlanks">Whether blanks at the end make no other key.</param>
/// <param name="HoldsAnyKind">Whether a column may hold values of several kinds.</param>
internal sealed record RuleJudge(string Engine, Func<IReadOnlyList<TableShape>, IReadOnlyList<string>> Rules, RowRule Rows,
    bool KeepsKeys = true, bool IgnoresTrailingBlanks = false, bool HoldsAnyKind = false)
    : IStoreJudge
{
    public IReadOnlyList<string> Complaints(IReadOnlyList<TableShape> tables) => Rules(tables);

    public void Judge(IReadOnlyList<TableOutput> outputs, ReadOnlySpan<int> rows, ICollection<RowReject> rejects)
    {
        if (!HoldsAnyKind) outputs = AnyValue.OneKind(outputs, ref rows, rejects, Engine);
        Rows(outputs, rows, rejects);
    }
}
