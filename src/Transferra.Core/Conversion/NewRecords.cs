// NewRecords.cs: records that a new version needs and no old one stands for.
using Transferra.Core.Expressions;
using Transferra.Core.Kits;
using Transferra.Core.Machine;
using Transferra.Core.Records;

namespace Transferra.Core.Conversion;

/// <summary>Computes new records.</summary>
internal static class NewRecords
{
    /// <summary>The one row of a new record.</summary>
    internal static TableOutput Evaluate(NewRecord record, IReadOnlyDictionary<string, string> settings)
    {
        var compiler = new ExpressionCompiler(new ExpressionScope("a new record", [], [], settings));
        var one = new RecordBatch([new ColumnShape("one", FieldType.Integer)]);
        ((LongVector)one.Vectors[0]).Append(1);
        var context = new EvaluationContext(one, []) { Active = [true] };
        Vector[] values = [.. record.Columns.Select(column => compiler.CompileFor(column.Value, column.Column).Evaluate(context))];
        if (context.Faults.Count > 0)
            throw new TransferraException($"the new record for {record.Into.Name} ({record.Because}): {context.Faults[0].Reason}",
                "Correct the answer in office.yaml or new-records in the hop.");
        return new TableOutput(record.Into, values);
    }
}
