// GroupSums.cs: control totals of stores that answer no SQL, added up by us. No second opinion as an engine's own sum is, but a second way:
// it reads the table as it lies and knows nothing of the conversion.
using Transferra.Core.Conversion;
using Transferra.Core.Expressions;
using Transferra.Core.Kits;
using Transferra.Core.Records;

namespace Transferra.Core.Matching;

internal static class GroupSums
{
    /// <summary>The sum of each group by its label; units of the total's scale.</summary>
    /// <exception cref="OverflowException">A sum left the Int128 range.</exception>
    /// <param name="store">The store.</param>
    /// <param name="sum">What is added up.</param>
    /// <param name="answers">What the office has answered.</param>
    /// <param name="cancel">Stops.</param>
    public static Dictionary<string, Int128> Of(IStore store, GroupSum sum, IReadOnlyDictionary<string, string> answers,
        CancellationToken cancel)
    {
        var compiler = new ExpressionCompiler(new ExpressionScope(sum.Table.Name, sum.Table.Columns, [.. sum.Lookups.Select(lookup =>
            lookup.Shape)], answers));
        Kernel? value = sum.Sum is null ? null : compiler.Compile(sum.Sum), where = sum.Where is null ? null
            : compiler.CompileCondition(sum.Where);
        Kernel[] by = [.. sum.By.Select(compiler.Compile)];
        var groups = new Vector[by.Length];
        var sums = new Dictionary<string, Int128>();
        var batch = new RecordBatch(sum.Table.Columns);
        var context = new EvaluationContext(batch, LookupLoader.Load(store, sum.Lookups));
        foreach (RecordBatch _ in store.Batches(sum.Table, [], cancel, batch))
        {
            context.ActivateAll();
            for (int i = 0; i < by.Length; i++) groups[i] = by[i].Evaluate(context);
            Vector? values = value?.Evaluate(context);
            var counts = (LongVector?)where?.Evaluate(context);
            for (int row = 0; row < batch.RowCount; row++)
            {
                if (counts is not null && (counts.IsNull(row) || counts.Values[row] == 0)) continue;
                if (values is not null && values.IsNull(row)) continue;
                string label = string.Join(" / ", groups.Select(group => group.IsNull(row) ? TotalLine.NoLabel
                    : group.Show(row)));
                Int128 amount = values switch { null => 1, WideVector wide => wide.Values[row], _ => ((LongVector)values).Values[row] };
                Int128 before = sums.GetValueOrDefault(label);
                // What is not finite makes the sum so; two such sums agree, and differ from every other.
                sums[label] = Specials.Is(before) || (values is WideVector && Specials.Is(amount)) ? Specials.NaN
                    : checked(before + amount);
            }
        }
        return sums;
    }
}
