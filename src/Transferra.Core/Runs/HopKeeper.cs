// HopKeeper.cs: keeps what a hop comes to, as it comes: exceptions in their log, and now and then a mark from which it can go on.
using Transferra.Core.Conversion;
using Transferra.Core.Means;
using Transferra.Core.Records;

namespace Transferra.Core.Runs;

/// <summary>Keeps one hop of a company.</summary>
/// <param name="on">The company.</param>
/// <param name="target">The new store.</param>
/// <param name="progress">How far the conversion has come; the hop's name is behind it when something is known of it.</param>
/// <param name="name">The hop's versions, "5-6".</param>
/// <param name="log">Of exceptions.</param>
internal sealed class HopKeeper(CompanyRun on, StoreAddress target, ConvertProgress progress, string name, ExceptionLog log) : IHopKeeper
{
    private readonly HopProgress? _known = progress.Hops.FirstOrDefault(hop => hop.Name == name);
    private readonly long _exceptionsBegin = progress.Hops.TakeWhile(hop => hop.Name != name).LastOrDefault()?.ExceptionsEnd ?? 0;
    private List<DoneTable>? _tables;
    private bool? _keysFirst;
    private long _rows;

    private List<DoneTable> Tables => _tables ??= [.. _known?.Tables ?? []];

    /// <inheritdoc/>
    public BuildMark? Reached => _known?.Mark;

    /// <inheritdoc/>
    public bool KeysFirst => _keysFirst ?? _known?.KeysFirst ?? false;

    /// <summary>How far the conversion has come with this hop.</summary>
    public ConvertProgress Progress { get; private set; } = progress;

    /// <summary>The first exception of this hop; null when there is none.</summary>
    public ExceptionRow? First { get; private set; }

    /// <inheritdoc/>
    public void StartOver(bool keysFirst)
    {
        (_keysFirst, _tables, First) = (keysFirst, [], null);
        log.BackTo(_exceptionsBegin);
        Save(null, null);
        on.RemoveMade(target);
        if (!target.IsOnServer) on.Work.MakeInside(target.Folder);
    }

    /// <inheritdoc/>
    public void Waits(BuildMark mark) => Save(mark, null);

    /// <inheritdoc/>
    public void Take(ExceptionRow exception)
    {
        First ??= exception;
        log.Add(name, exception);
    }

    /// <inheritdoc/>
    public TableAccount? Known(int source, string table) =>
        Tables.FirstOrDefault(done => done.Source == source && done.Account.Table == table)?.Account;

    /// <inheritdoc/>
    public void TableDone(int source, TableAccount account, Func<BuildMark> mark)
    {
        Tables.Add(new DoneTable(source, account));
        if ((_rows += account.Read) < on.Context.RowsBetweenMarks) return;
        _rows = 0;
        Save(mark(), null);
    }

    /// <inheritdoc/>
    public void Completing()
    {
        // Interrupted from here on, the hop begins anew; with no mark kept, it does so anyway.
        if (Progress.Hops.Any(hop => hop.Name == name && hop.Mark is not null)) Save(null, null);
    }

    /// <summary>The hop is through, and its new store complete.</summary>
    public void Done(HopResult result) => Save(null, result);

    private void Save(BuildMark? mark, HopResult? result)
    {
        Progress = Progress.With(new HopProgress(name, KeysFirst, mark, mark is null && result is null ? [] : [.. Tables], log.Mark(),
            result));
        Progress.Save(on);
    }
}
