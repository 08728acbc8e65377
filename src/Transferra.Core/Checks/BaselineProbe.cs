// BaselineProbe.cs: takes the baseline of a table while it is checked, so that the backup that comes next need not read it for that.
using Transferra.Core.Matching;

namespace Transferra.Core.Checks;

internal sealed class BaselineProbe(TableScan scan) : Probe
{
    private BaselineTaking? _taking;

    public override bool GathersOnly => true;

    /// <summary>What it came to, with the table it is of; null before the table was read to its end.</summary>
    public TakenBaseline? Taken { get; private set; }

    public override void Take() => (_taking ??= new BaselineTaking(scan.Table, scan.Batch, byGroups: true)).Take();

    public override void ReadingEnded()
    {
        Taken = new TakenBaseline(scan.Table, (_taking ?? new BaselineTaking(scan.Table, scan.Batch, byGroups: true)).Taken());
        _taking = null; // its buckets take 2 MB
    }
}
