// RowFilter.cs: of which records of a table something is said.
using System.Runtime.CompilerServices;
using Transferra.Core.Expressions;
using Transferra.Core.Records;

namespace Transferra.Core.Checks;

/// <param name="scan">The table.</param>
/// <param name="where">The condition; null for all records.</param>
internal sealed class RowFilter(TableScan scan, Expression? where)
{
    private readonly Kernel? _where = where is null ? null : scan.Compiler().CompileCondition(where);
    private readonly EvaluationContext _context = new(scan.Batch, []);
    private LongVector? _counts;

    /// <summary>Looks at the batch as it is now.</summary>
    public void Look()
    {
        if (_where is null) return;
        _context.ActivateAll();
        _counts = (LongVector)_where.Evaluate(_context);
    }

    /// <summary>Whether a record of the batch counts; one of which it cannot be told does not.</summary>
    [MethodImpl(MethodImplOptions.AggressiveInlining)]
    public bool Counts(int row) => _counts is null || (!_counts.IsNull(row) && _counts.Values[row] != 0);
}
