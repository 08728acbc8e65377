// TrialProbe.cs: tries the hop on every record without writing: what it could not convert is a fault of the old data.
using Transferra.Core.Conversion;
using Transferra.Core.Kits;
using Transferra.Core.Records;

namespace Transferra.Core.Checks;

/// <summary>Tries a table map.</summary>
internal sealed class TrialProbe(TableScan scan, TableMap map, TableTransform lane, IStoreJudge judge, ValueHeads heads,
    FindingCollector? findings) : Probe
{
    // Links to records that are not there are found, with the relation's name, by RelationProbe.
    private readonly HashSet<string> _linked = new(map.From.Relations.SelectMany(relation => relation.Columns),
        StringComparer.OrdinalIgnoreCase);

    private readonly List<RowReject> _rejects = [];
    private int[] _rows = [];

    public override void Take()
    {
        lane.Apply();
        if (_rows.Length < lane.RowCount) _rows = new int[lane.RowCount];
        _rejects.Clear();
        judge.Judge(lane.Outputs, _rows.AsSpan(0, lane.CarriedRows(_rows)), _rejects);
        if (_rejects.Count > 0) lane.Refuse(_rejects);
        if (findings is null) return; // nothing becomes of its records: they stay as they are
        foreach (ExceptionRow exception in lane.Exceptions())
            foreach (ExceptionCause cause in exception.Causes)
            {
                // Copies that are to be combined lie side by side here; keys are judged by KeyProbe.
                if (cause.Code is FaultCode.ConflictingKey or FaultCode.DuplicateKey) continue;
                if (cause.Code == FaultCode.MissingReference && _linked.Contains(cause.Column)) continue;
                findings.Add(heads.OfFault(cause.Code, Grade.Fault, scan.Table.Name, cause.Column, cause.Reason), exception.Key,
                    cause.Value);
            }
    }

    /// <summary>Whether a row of the batch could not be converted.</summary>
    public bool IsException(int row) => findings is not null && row < lane.Fates.Length && lane.Fates[row] == RowFate.Exception;
}
