// HopOffice.cs: lends the place of a company's store to a copy of it, for a converter that works nowhere else, lets the account of that
// converter in, and turns services on and off for a hop.
// Holds: (1) the original is set aside by a rename, announced in the journal before, and never written, overwritten or removed; (2) Restore
// brings everything back from any point, by what the journal and the disk say; (3) only in a closed office.
using Transferra.Core.Closing;
using Transferra.Core.Machine;
using Transferra.Core.Means;
using Transferra.Core.Office;
using Transferra.Core.Records;

namespace Transferra.Core.Runs;

/// <summary>The office around a hop.</summary>
/// <param name="on">The company on its way.</param>
/// <param name="copy">Where the hop's new store is made.</param>
internal sealed class HopOffice(CompanyRun on, StoreAddress copy) : IHopOffice
{
    private const string Lending = "lending", Returned = "returned", Turned = "service-turned", LettingIn = "letting-in", PutOutAgain
        = "put-out", FoundPrefix = "found.";

    private Swap Swap => new(on.Context.Places, [new Move(OwnPlace, on.LentAside), new Move(copy, OwnPlace)]);

    /// <inheritdoc/>
    public StoreAddress OwnPlace => on.Company.OldStore;

    private IEnumerable<JournalEntry> Entries(string state) => on.Run.Journal.Entries.Where(entry => entry.Company == on.Company.Code
        && entry.Stage == Stages.Convert && entry.State == state);

    // Whether the journal says that a copy may stand in the place.
    private bool IsLending => Entries(Lending).LastOrDefault() is { } last && last.Facts["copy"] == copy.Shown
        && !Entries(Returned).Any(entry => entry.Number > last.Number);

    /// <summary>The office around the hop that has a place lent, or a service turned, when a run was interrupted; null when none
    /// has.</summary>
    public static HopOffice? Of(CompanyRun on)
    {
        string? shown = on.Run.Journal.Entries.LastOrDefault(entry => entry.Company == on.Company.Code && entry.Stage == Stages.Convert
            && entry.State is Lending or Turned or LettingIn)?.Facts.GetValueOrDefault("copy");
        return on.Way.Hops.Select(hop => on.Staged(hop.To.Name)).Concat(on.ExportCopies)
            .FirstOrDefault(staged => staged.Shown == shown) is { } copy ? new HopOffice(on, copy) : null;
    }

    /// <summary>Whether the original stands aside for a copy.</summary>
    public static bool IsLent(CompanyRun on) => on.Run.Journal.Entries.Any(entry => entry.Company == on.Company.Code
        && entry is { Stage: Stages.Convert, State: Lending }) && on.Context.Places.Exists(on.LentAside);

    /// <inheritdoc/>
    public void Lend()
    {
        if (on.Context.Closing is not { IsClosed: true } closing)
            throw new TransferraException("a copy stands in the place of the original only while the office is closed",
                "Close it: transferra close");
        if (on.Company.MovesTo is not null)
            throw new TransferraException($"a converter that works on its own place cannot be followed to {on.Company.NewStore.Shown}",
                "Let it convert in a first upgrade, without new-store in office.yaml, and move in a second one.");
        if (HolderOf(OwnPlace) is { } holder)
            throw new TransferraException($"the store of {on.Company.Code} is open: {holder}", "Close it there, then try again.");
        if (!IsLending) on.Run.Journal.Append(on.Company.Code, Stages.Convert, Lending, new Dictionary<string, string>
        {
            ["copy"] = copy.Shown,
            ["place"] = OwnPlace.Shown,
            ["aside"] = on.LentAside.Shown
        });
        if (!on.LentAside.IsOnServer) on.Work.MakeInside(on.LentAside.Folder);
        // In place an open one would let people in.
        if (on.Context.Places.Exists(copy)) closing.CoverAlso(copy, OwnPlace, OwnPlace, on.Context.Office.Folder);
        Swap.Forward();
    }

    /// <inheritdoc/>
    public void LetIn(string account)
    {
        StoreAddress place = IsLending ? OwnPlace : copy;
        if (!place.IsOnServer && on.Context.Closing is not { IsClosed: true })
        {
            on.Context.Observer.Told($"{account} is let in to the copy only while the office is closed; now only whoever runs this "
                + "can open it");
            return;
        }
        if (Guest() is not { } guest)
        {
            guest = place.IsOnServer ? on.Context.Stores.ServerOf(place).Guest(place.Path, account, OwnPlace.Path)
                : FilesGuest.Found(place.Path, on.Context.Stores.FilesOf(place), account, folder =>
                    on.Context.Closing!.HasShut(folder) || folder == on.Work.FullPath
                    || folder.StartsWith(on.Work.FullPath + "/", StringComparison.Ordinal));
            on.Run.Journal.Append(on.Company.Code, Stages.Convert, LettingIn, new Dictionary<string, string>(guest.Found
                .Select(found => KeyValuePair.Create(FoundPrefix + found.Key, found.Value)))
            {
                ["copy"] = copy.Shown,
                ["store"] = guest.Store,
                ["account"] = account
            });
        }
        if (place.IsOnServer) on.Context.Stores.ServerOf(place).LetIn(guest);
        else FilesGuest.LetIn(on.Context.Volume, guest);
        TellAlso(guest, place);
    }

    // The original set aside, and what else of this office was closed for it.
    private void TellAlso(StoreGuest guest, StoreAddress place)
    {
        string[] also = [.. guest.AlsoInto.Where(name => name.StartsWith(StoreAddress.RunPrefix, StringComparison.Ordinal)
            || on.Context.Originals.Any(store => store.IsOnServer && place.IsOnServer && store.Engine == place.Engine
                && (store.Server!.Host, store.Server.Port) == (place.Server!.Host, place.Server.Port) && store.Path == name))];
        if (also.Length > 0) on.Context.Observer.Told($"{guest.Account} can also come into {string.Join(", ", also)} meanwhile: "
            + $"{place.Engine} lets an account in, not into one database");
    }

    // Who is let in, as the journal says.
    private StoreGuest? Guest() => Entries(LettingIn).LastOrDefault() is { } last && last.Facts["copy"] == copy.Shown
        && !Entries(PutOutAgain).Any(entry => entry.Number > last.Number)
        ? new StoreGuest(last.Facts["store"], last.Facts["account"], last.Facts
            .Where(fact => fact.Key.StartsWith(FoundPrefix, StringComparison.Ordinal))
            .ToDictionary(fact => fact.Key[FoundPrefix.Length..], fact => fact.Value)) : null;

    private void PutOut()
    {
        if (Guest() is not { } guest) return;
        StoreAddress place = IsLending ? OwnPlace : copy;
        if (!place.IsOnServer) FilesGuest.PutOut(on.Context.Volume, guest);
        else
        {
            IStoreServer server = on.Context.Stores.ServerOf(place);
            server.PutOut(guest);
            // What it left open at the server would keep the copy where it is.
            if (server.Exists(guest.Store))
                foreach (StoreSession session in server.Sessions(guest.Store).Where(session => string.Equals(session.User, guest.Account,
                    StringComparison.OrdinalIgnoreCase))) server.End(guest.Store, session);
        }
        on.Run.Journal.Append(on.Company.Code, Stages.Convert, PutOutAgain, new Dictionary<string, string>
        {
            ["copy"] = copy.Shown,
            ["account"] = guest.Account
        });
    }

    // A program that was ended, and whoever only looks around on a server, is gone in a moment.
    private string? HolderOf(StoreAddress store)
    {
        for (var clock = System.Diagnostics.Stopwatch.StartNew(); ;)
        {
            if (on.Context.Places.OpenedBy(store) is not [var holder, ..]) return null;
            if (clock.Elapsed > TimeSpan.FromSeconds(3)) return holder;
            on.Context.Cancel.WaitHandle.WaitOne(TimeSpan.FromMilliseconds(300));
        }
    }

    /// <inheritdoc/>
    public void TakeHome()
    {
        if (!IsLending) return;
        if (Swap.DoneMoves() > 0)
        {
            if (HolderOf(OwnPlace) is { } holder)
                throw new TransferraException($"the copy in the place of {on.Company.Code} is open: {holder}",
                    "Close it there, then go on. The original stands aside.");
            Swap.Back();
        }
        on.Run.Journal.Append(on.Company.Code, Stages.Convert, Returned, new Dictionary<string, string> { ["place"] = OwnPlace.Shown });
    }

    /// <inheritdoc/>
    public void Turn(string service, bool isOn)
    {
        (Closing.OfficeClosing closing, ServicePlan plan) = Known(service);
        bool was = closing.IsOn(plan);
        if (was == isOn) return;
        on.Run.Journal.Append(on.Company.Code, Stages.Convert, Turned, new Dictionary<string, string>
        {
            ["copy"] = copy.Shown,
            ["service"] = service,
            ["to"] = isOn ? "on" : "off"
        });
        closing.Turn(plan, isOn);
    }

    private (Closing.OfficeClosing, ServicePlan) Known(string service) => (on.Context.Closing is { IsClosed: true } closing ? closing
        : throw new TransferraException("services are turned for a hop only while the office is closed", "Close it: transferra close"),
        on.Context.Office.Closing.Services.FirstOrDefault(plan => string.Equals(plan.Name, service, StringComparison.OrdinalIgnoreCase))
        ?? throw new TransferraException($"the hop speaks of the service {service}, which is not under closing in {OfficeLoader.FileName}",
            "Describe there how it is turned on and off."));

    /// <inheritdoc/>
    public void Restore()
    {
        // Services first: they may hold the copy open. Each is to be as it was before the hop turned it first.
        // An office that somebody opened meanwhile has had its own back by that.
        IEnumerable<JournalEntry> turned = on.Context.Closing is not { IsClosed: true } ? [] : Entries(Turned);
        foreach (IGrouping<string, JournalEntry> service in turned.Where(entry => entry.Facts["copy"] == copy.Shown)
            .GroupBy(entry => entry.Facts["service"]))
        {
            bool wasOn = service.First().Facts["to"] == "off", isOn = service.Last().Facts["to"] == "on";
            if (wasOn != isOn) Turn(service.Key, wasOn);
        }
        PutOut();
        TakeHome();
    }
}
