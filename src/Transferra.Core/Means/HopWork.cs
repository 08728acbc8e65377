// HopWork.cs: goes one hop: its beginning makes the new store, its means fill it. An interrupted hop is continued where its keeper says.
// Holds: (1) the source is only read; (2) records with the same key are each named, also where the engine tells only that there are some.
using Transferra.Core.Conversion;
using Transferra.Core.Kits;
using Transferra.Core.Machine;
using Transferra.Core.Records;

namespace Transferra.Core.Means;

/// <summary>Makes the new store of a hop.</summary>
internal interface IHopBeginning : IBeginning
{
    /// <summary>Makes the store at the target.</summary>
    /// <returns>How far it has come by that.</returns>
    BuildMark Begin(HopWork work);
}

/// <summary>Converts the records of a hop.</summary>
internal interface IHopMeans : IMeans
{
    /// <summary>Whether what it had begun before an interruption is gone on with, though it does not go by maps.</summary>
    bool GoesOn => GoesByMaps;

    /// <summary>What has to be done before the new store is begun; fine when it is done.</summary>
    void Prepare(HopWork work) { }

    /// <summary>Converts, and completes the store.</summary>
    /// <param name="work">The hop.</param>
    /// <param name="from">How far the new store has come.</param>
    /// <exception cref="KeyConflictException">Records with the same key came in, and the engine did not say which.</exception>
    ConversionResult Convert(HopWork work, BuildMark from);
}

/// <summary>Keeps how far a hop has come.</summary>
internal interface IHopKeeper : IConversionKeeper
{
    /// <summary>How far the new store came before an interruption, as the keeper last kept it; null when it is to be begun.</summary>
    BuildMark? Reached { get; }

    /// <summary>Keeps that the new store waits for a person as it is.</summary>
    void Waits(BuildMark mark);

    /// <summary>Whether it was made with keys first.</summary>
    bool KeysFirst { get; }

    /// <summary>Removes the new store and what is known of it.</summary>
    /// <param name="keysFirst">How it is made next.</param>
    void StartOver(bool keysFirst);
}

/// <summary>One hop to be gone.</summary>
/// <param name="Hop">The hop.</param>
/// <param name="Stores">Opens and creates stores.</param>
/// <param name="Source">The old store.</param>
/// <param name="OpenSource">Opens it.</param>
/// <param name="Target">Where the new store is made.</param>
/// <param name="Settings">Answers to the new settings.</param>
/// <param name="Keeper">Keeps how far it has come.</param>
/// <param name="Observer">Hears the progress.</param>
/// <param name="Cancel">Stops between two batches.</param>
internal sealed record HopWork(Hop Hop, IStoreOpener Stores, StoreAddress Source, Func<IStore> OpenSource, StoreAddress Target,
    IReadOnlyDictionary<string, string> Settings, IHopKeeper Keeper, IProgressObserver Observer, CancellationToken Cancel)
{
    /// <summary>The stores that nothing may be written to, whatever hop it is.</summary>
    public IReadOnlyList<StoreAddress> Originals { get; init; } = [];

    /// <summary>The names by which statements would reach them: of a database that on its server, of a file that without its
    /// folder.</summary>
    public IReadOnlyList<string> Untouchable => [.. Originals.Append(Source).Where(store => store.Engine == Target.Engine)
        .Select(store => store.IsOnServer ? store.Path : Path.GetFileName(store.Path)).Distinct(StringComparer.Ordinal)];

    /// <summary>The office around the hop; null where it must not be touched, as in a trial.</summary>
    public IHopOffice? Office { get; init; }

    /// <summary>Where the new store is while others convert it.</summary>
    public StoreAddress Place => Surroundings.IsAtOwnPlace && Office is not null ? Office.OwnPlace : Target;

    /// <summary>What has to be the case meanwhile.</summary>
    public HopSurroundings Surroundings { get => field ?? Hop.Surroundings; init; }

    /// <summary>Where a copy of the old store is made for the old program to write it out from.</summary>
    public StoreAddress ExportCopy { get; init; } = Target;

    /// <summary>The office around a copy that is made there.</summary>
    public Func<StoreAddress, IHopOffice>? OfficeAround { get; init; }

    /// <summary>Removes a copy that was made for this hop; fine when it is not there.</summary>
    public Action<StoreAddress> RemoveCopy { get; init; } = _ => { };

    /// <summary>Puts a folder into a backup set of the company, in every place, and says which.</summary>
    public Func<string, IReadOnlyList<string>> KeepElsewhere { get; init; } = _ => [];

    /// <summary>Folder for what the old program writes out.</summary>
    public string ExportFolder => Path.Combine(OutputFolder, $"export-{Hop.From.Name}-{Hop.To.Name}");

    /// <summary>When the run began.</summary>
    public DateTimeOffset Begun { get; init; }

    /// <summary>What files that are kept of this part begin with; "" for the conversion itself.</summary>
    public string Part { get; init; } = "";

    /// <summary>What is still missing, in words, null when nothing is; null where the copy's own version tells it.</summary>
    public Func<string?>? Missing { get; init; }

    /// <summary>The company's code.</summary>
    public string Company { get; init; } = "";

    /// <summary>The versions that the new store tells by its signs.</summary>
    public Func<StoreAddress, IReadOnlyList<string>> ToldVersions { get; init; } = _ => [];

    /// <summary>Who has a store open, in words.</summary>
    public Func<StoreAddress, IReadOnlyList<string>> OpenedBy { get; init; } = _ => [];

    /// <summary>Folder for what the vendor's program says; there already.</summary>
    public string OutputFolder { get; init; } = "";

    /// <summary>The store that the vendor's new program made; null when office.yaml names none.</summary>
    public StoreAddress? VendorMade { get; init; }

    /// <summary>Goes the hop.</summary>
    public ConversionResult Run()
    {
        ((IHopMeans)Hop.Means).Prepare(this);
        BuildMark? reached = Keeper.Reached;
        // What others had done half is not gone on with: they begin with the copy again.
        if (reached is not null && !((IHopMeans)Hop.Means).GoesOn)
        {
            Keeper.StartOver(keysFirst: false);
            reached = null;
        }
        while (true)
        {
            try
            {
                return Convert(reached ?? ((IHopBeginning)Hop.Beginning).Begin(this));
            }
            catch (CannotContinueException) when (reached is not null)
            {
                Keeper.StartOver(Keeper.KeysFirst);
            }
            catch (KeyConflictException) when (!Keeper.KeysFirst)
            {
                // Built at the end, the keys say only that there are records with the same key. Once more, so that each of them is named.
                Keeper.StartOver(keysFirst: true);
            }
            reached = null;
        }
    }

    private ConversionResult Convert(BuildMark from)
    {
        var means = (IHopMeans)Hop.Means;
        return means.GoesByMaps && !Surroundings.IsForTheNight ? means.Convert(this, from) : Around(() => means.Convert(this, from));
    }

    /// <summary>Does something with the copy while all around it is as it has to be, and has that as it was before.</summary>
    internal ConversionResult Around(Func<ConversionResult> act)
    {
        if (Surroundings.IsForTheNight && Office is null)
            throw new InvalidOperationException($"the hop to {Hop.To.Name} needs a closed office");
        try
        {
            foreach (string service in Surroundings.ServicesOff) Office!.Turn(service, on: false);
            if (Surroundings.IsAtOwnPlace) Office!.Lend();
            if (Surroundings.Account is { } account) Office?.LetIn(account);
            Stores.LetGo();
            ConversionResult result = act();
            if (!((IHopMeans)Hop.Means).GoesByMaps) Settle();
            Office?.Restore();
            return result;
        }
        // What waits for a person stays where the person finds it.
        catch (Exception error) when (error is not WaitsForHandException)
        {
            Office?.Restore();
            throw;
        }
    }

    // A program may leave what it changed beside the file, to be worked in by whoever opens it next. It belongs to this file alone, and
    // must neither be left behind nor be found by the original.
    private void Settle()
    {
        if (!Beside().Any()) return;
        using (IScriptRunner runner = Stores.RunScripts(Place)) runner.Complete();
        if (Beside().FirstOrDefault() is { } left)
            throw new TransferraException($"{left} still lies beside the copy: somebody has it open",
                "Close the program that has it open, then try again.");
    }

    private IEnumerable<string> Beside() => Place.EndingsKept.Select(ending => Place.Path + ending).Where(File.Exists);
}
