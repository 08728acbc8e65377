// SkippingReader.cs: reads a damaged table around its damage: in ranges of positions (record numbers, pages, values of a key), halved
// where the engine gives up, until single positions are lost and the reading goes on behind them.
// Holds: (1) a record that the engine delivers when asked for its position alone is delivered once, unless it lies within a stretch of
// damage
// wider than a leap, of which every LeapMost-th position was tried, as long as LeapsMost of them did not all fail; (2) what is not
// delivered is told with its positions.
using Transferra.Core.Machine;

namespace Transferra.Core.Records;

/// <summary>Reads around damage.</summary>
/// <param name="table">What is read.</param>
/// <param name="open">Opens a reader of the positions from the first (included) to the second (excluded).</param>
/// <param name="first">The least position.</param>
/// <param name="last">The greatest.</param>
/// <param name="what">What a position is, in words: record, page, NUMBER.</param>
/// <param name="lost">Receives what is lost.</param>
public sealed class SkippingReader(TableShape table, Func<long, long, IRecordReader> open, long first, long last, string what,
    ICollection<LostPart> lost) : IRecordReader
{
    private const long StepMost = 4096, GapStepMost = 1L << 60;
    private const int LossesBeforeLeaps = 16, LeapMost = 64, LeapsMost = 1_000, TriesMost = 100_000;

    private readonly RecordBatch _read = new(table.Columns, new BatchLimits(20_000, 16 << 20));
    private long _at = first, _step = 64, _lostFrom, _losses;
    private int _next, _failures;
    private string _why = "";

    /// <summary>Positions that no record is likely to lie beyond, for when the engine cannot say where the first and the last
    /// are.</summary>
    public const long FarBelow = -(1L << 60), FarAbove = 1L << 60;

    /// <inheritdoc/>
    public bool Fill(RecordBatch batch)
    {
        while (!batch.IsFull)
        {
            if (_next < _read.RowCount)
            {
                int into = batch.RowCount;
                for (int column = 0; column < batch.Vectors.Length; column++) batch.Vectors[column].AppendFrom(_read.Vectors[column],
                    _next);
                foreach (RowFault fault in _read.Faults)
                    if (fault.Row == _next) batch.Faults.Add(fault with { Row = into });
                _next++;
                continue;
            }
            if (_at > last || _failures > TriesMost)
            {
                if (_at <= last) Lose(last);
                TellLost();
                return false;
            }
            Advance();
        }
        return true;
    }

    private void Advance()
    {
        long before = last - _at < _step ? last + 1 : _at + _step;
        switch (Try(_at, before))
        {
            case Outcome.Read:
                TellLost();
                _at = before;
                _step = _read.RowCount == 0 ? Math.Min(_step * 2, GapStepMost) : Math.Min(_step * 2, StepMost);
                break;
            case Outcome.TooMany:
                _step = Math.Max(1, (before - _at) / 2);
                break;
            default:
                if (before - _at > 1) _step = (before - _at) / 2;
                else if (_losses < LossesBeforeLeaps) Lose(_at);
                else Leap();
                break;
        }
    }

    // A long stretch is lost: its end is looked for in leaps, and then exactly.
    private void Leap()
    {
        long bad = _at, good = _at;
        int leaps = 0;
        // Where nothing at all can be read any more, as of a table that the engine has given up, leaps grow until they have reached the
        // end.
        for (long leap = 1; ; leap = leaps++ < LeapsMost ? Math.Min(leap * 2, LeapMost) : leap * 2)
        {
            if (last - bad < leap || _failures > TriesMost)
            {
                Lose(last);
                return;
            }
            good = bad + leap;
            if (Try(good, good + 1) != Outcome.Failed) break;
            bad = good;
        }
        while (good - bad > 1)
        {
            long middle = bad + (good - bad) / 2;
            if (Try(middle, middle + 1) == Outcome.Failed) bad = middle;
            else good = middle;
        }
        Lose(good - 1);
        _read.Reset();
        _next = 0;
    }

    private enum Outcome
    {
        Read,
        TooMany,
        Failed,
    }

    private Outcome Try(long from, long before)
    {
        _read.Reset();
        _next = 0;
        try
        {
            using IRecordReader reader = open(from, before);
            if (!reader.Fill(_read)) return Outcome.Read;
            if (before - from == 1)
            {
                // One position with more records than that is read whole all the same.
                var rest = new RecordBatch(table.Columns, _read.Limits);
                for (bool more = true; more;)
                {
                    rest.Reset();
                    more = reader.Fill(rest);
                    _read.AppendRows(rest, 0);
                }
                return Outcome.Read;
            }
            var one = new RecordBatch(table.Columns, new BatchLimits(1, 1));
            if (!reader.Fill(one) && one.RowCount == 0) return Outcome.Read;
            _read.Reset();
            return Outcome.TooMany;
        }
        catch (TransferraException error)
        {
            _read.Reset();
            _failures++;
            _why = error.Message;
            return Outcome.Failed;
        }
    }

    private void Lose(long to)
    {
        if (_losses == 0) _lostFrom = _at;
        _losses += to - _at + 1;
        _at = to == long.MaxValue ? to : to + 1;
        _step = 1;
    }

    private void TellLost()
    {
        if (_losses == 0) return;
        long lostTo = _lostFrom + _losses - 1;
        lost.Add(new LostPart(table.Name, lostTo == _lostFrom
            ? FormattableString.Invariant($"{what} {_lostFrom}") : FormattableString.Invariant($"{what} {_lostFrom} to {lostTo}"), _why));
        _losses = 0;
    }

    /// <inheritdoc/>
    public void Dispose()
    {
        // Every range's reader was closed when it had been read.
    }
}
