// CompanyGates.cs: may this company go? Its store, its version, the way, new settings, its places, the server that keeps it.
using System.Globalization;
using Transferra.Core.Backup;
using Transferra.Core.Kits;
using Transferra.Core.Machine;
using Transferra.Core.Office;
using Transferra.Core.Records;
using Transferra.Core.Runs;
using Transferra.Core.Surveys;

namespace Transferra.Core.Gates;

/// <summary>Asks the gates of a company.</summary>
/// <param name="context">What it works with.</param>
/// <param name="words">What people have said.</param>
/// <param name="room">Adds up what is needed of the disks.</param>
internal sealed class CompanyGates(RunContext context, Words words, Room room)
{
    /// <summary>The gates in the order of the work; none when the company is at the wanted version already.</summary>
    /// <param name="company">The company.</param>
    /// <param name="from">Its present version; null when it is not told.</param>
    /// <param name="survey">What was found of it.</param>
    public IReadOnlyList<Gate> Of(Company company, out KitVersion? from, out CompanySurvey survey)
    {
        var gates = new List<Gate>();
        survey = Survey.Of(company, context.Stores);
        from = survey.DataVersion is null ? null : company.Kit.Version(survey.DataVersion);
        if (from is null)
        {
            gates.Add(new Gate(company.Code, "store and data version", GateState.Blocked, survey.Problem, survey.Next));
            return gates;
        }
        if (from.Name == company.WantedVersion) return gates;
        gates.Add(new Gate(company.Code, "store and data version", GateState.Passed, $"data version {from.Name}, {survey.Engine}"));
        if (survey.GuessedForm.Length > 0)
            gates.Add(new Gate(company.Code, "form of the text", GateState.Blocked,
                $"nothing says how the files are written; they look like: {survey.GuessedForm}",
                $"Look into them, then say it in {OfficeLoader.FileName}, beside delimited: separator, quote, encoding, header, "
                    + "decimal-mark, dates, null."));
        Way? way = company.WayBetween(from.Name, company.WantedVersion);
        gates.Add(WayGate(company, from, way));
        if (way is not null) AddVendorMade(gates, company, way);
        gates.AddRange(company.Carry.Select(carry => CarryGate(company.Code, carry)));
        for (int i = 0; i < way?.Hops.Count; i++)
            if ((way.Hops[i].Beginning is Means.CopyBeginning || !way.Hops[i].Means.GoesByMaps)
                && Means.CopyBeginning.Hindrance(i == 0 ? company.OldStore : company.NewStore, company.NewStore) is { } hindrance)
                gates.Add(new Gate(company.Code, "beginning", GateState.Blocked,
                    $"the hop to version {way.Hops[i].To.Name} begins with a copy, and the new store cannot: {hindrance}",
                    way.Hops[i].Means.GoesByMaps
                        ? $"Take \"beginning: copy\" out of {way.Hops[i].File}, or leave new-store out of {OfficeLoader.FileName}."
                        : $"Others convert in this hop, in a copy of the old store; leave new-store out of {OfficeLoader.FileName}."));
        foreach (NewSetting setting in way?.Hops.SelectMany(hop => hop.Settings).DistinctBy(setting => setting.Name) ?? [])
        {
            bool answered = company.Answers.TryGetValue(setting.Name, out string? answer);
            string choices = setting.Choices.Count > 0 ? " (" + string.Join(", ", setting.Choices) + ")" : "";
            gates.Add(Gate.If(answered, company.Code, "new setting " + setting.Name, answered
                ? $"answered: {answer}" : (company.Kit.Asks.Contains(setting) ? "the kit" : $"version {company.WantedVersion}")
                    + $" asks: {setting.Question}{choices}",
                $"Answer it in {OfficeLoader.FileName}, under the company: answers: {{{setting.Name}: ...}}"));
        }
        // Whoever is in now is not an obstacle: when the office is closed they are told, waited for, and named if they stay.
        gates.Add(new Gate(company.Code, "who is in", GateState.Passed, survey.OpenedBy.Count == 0
            ? "nobody" : $"{string.Join(", ", survey.OpenedBy)}; told and waited for when the office is closed"));
        if (survey.Facts.TryGetValue(StoreIdentity.WaitingChanges, out string? waiting))
            gates.Add(new Gate(company.Code, "changes waiting", GateState.Blocked,
                $"changes lie beside the store and not yet in it: {waiting}",
                "Close the old program on all workstations; it then writes them into the store."));
        foreach (string folder in company.DocumentFolders.Where(folder => !Directory.Exists(folder)))
            gates.Add(new Gate(company.Code, "documents", GateState.Blocked, $"the folder {folder} is not there",
                $"Correct documents in {OfficeLoader.FileName}, or find out where the folder went."));
        if (company.MovesTo is { } newPlace && context.Places.Exists(newPlace))
            gates.Add(new Gate(company.Code, "place of the new store", GateState.Blocked, $"{newPlace.Shown} is there already",
                "Find out what it is and move it away, or name another place under new-store."));
        gates.Add(CheckGate(company, from));
        AddWhole(gates, company, from);
        AddEngines(gates, company, from, survey);
        AddServers(gates, company);
        AddProof(gates, company);
        AddRoom(gates, company, survey, way?.Hops.Count ?? 1);
        return gates;
    }

    private static Gate WayGate(Company company, KitVersion from, Way? way)
    {
        string list(IEnumerable<Hop> hops) => string.Join(", ", hops.Select(hop => $"{hop.From.Name} to {hop.To.Name}"));
        if (way is not null)
        {
            Hop[] direct = [.. company.Kit.Hops.Where(hop => hop.From == from)];
            int ways = Way.Count(company.Kit, from.Name, company.WantedVersion);
            return new Gate(company.Code, "way", GateState.Passed, $"by {list(way.Hops)}"
                + (ways > 1 ? $", the shortest of {ways} ways; the others lead through "
                + string.Join(", ", direct.Where(hop => hop != way.Hops[0]).Select(hop => hop.To.Name).DefaultIfEmpty("later versions"))
                    : ""));
        }
        int found = Position(company.Kit, from.Name), wanted = Position(company.Kit, company.WantedVersion);
        if (found > wanted)
            return new Gate(company.Code, "way", GateState.Blocked,
                $"the data is version {from.Name}, which is newer than the wanted {company.WantedVersion}; there is no way back",
                $"Correct wanted-version in {OfficeLoader.FileName}; or find out who converted it, "
                    + "and restore the version before from a backup set.");
        // The oldest version that would do says how far somebody else's conversion has to bring it.
        string[] reach = [.. company.Kit.Versions.Where(version => Way.Between(company.Kit, version.Name, company.WantedVersion) is not null
            && version.Name != company.WantedVersion).Select(version => version.Name)];
        return new Gate(company.Code, "way", GateState.Blocked, $"the kit knows no way from version {from.Name} to {company.WantedVersion}"
            + (reach.Length > 0 ? $"; it is too old: a way leads from {string.Join(", ", reach)}" : ""),
            reach.Length > 0 ? $"Bring it to version {reach[0]} with the vendor's own program first, or ask the vendor for a kit that "
                + "knows the versions in between." : "Ask the vendor for the versions in between, and for a kit that knows them.");
    }

    private static int Position(Kit kit, string version) => kit.Versions.ToList().FindIndex(known => known.Name == version);

    // The engine that will have to keep the new version; what it keeps already tells its version.
    private void AddEngines(List<Gate> gates, Company company, KitVersion from, CompanySurvey survey)
    {
        VersionNeeds needs = company.Kit.Version(company.WantedVersion)!.Needs;
        if (!needs.Engines.TryGetValue(company.NewStore.Engine, out string? atLeast)) return;
        string? has = company.NewStore.Engine == company.OldStore.Engine ? survey.Engine.Split(' ')[^1] : company.NewStore.IsOnServer
            ? EngineOf(company.NewStore) : null;
        if (company.NewStore.Engine != company.OldStore.Engine && has is null) return; // a file is made by the engine that we bring
        gates.Add(Gate.If(has is not null && VersionText.Compare(has, atLeast) >= 0, company.Code, "database engine",
            $"{company.NewStore.Engine} {has ?? "of unknown version"}, at least {atLeast} needed",
            $"Bring the engine to version {atLeast} first; the data of version {from.Name} must be readable there."));
    }

    private string? EngineOf(StoreAddress store)
    {
        try
        {
            return context.Stores.ServerOf(store).EngineVersion();
        }
        catch (TransferraException)
        {
            return null; // that it does not answer is told below
        }
    }

    private void AddServers(List<Gate> gates, Company company)
    {
        foreach (StoreAddress store in ((StoreAddress[])[company.OldStore, company.NewStore]).Where(store => store.IsOnServer)
            .DistinctBy(store => store.Shown))
        {
            IStoreServer server = context.Stores.ServerOf(store);
            try
            {
                string? name = context.Places.Exists(store) ? store.Path : null;
                // The old store is set aside by a rename, the new one is made and renamed: what would stop either is asked before the
                // night begins.
                gates.AddRange(server.Hindrances(name).Select(hindrance =>
                    new Gate(company.Code, "database server", GateState.Blocked, $"{store.Shown}: {hindrance}",
                    "See docs/servers.md for what each engine needs.")));
                foreach (ServerAdvice advice in server.Advice(name))
                    gates.Add(advice.IsUnsafe ? Spoken(company.Code, "", $"{company.Code}/{advice.Name}", $"server setting {advice.Name}",
                        $"{store.Shown}: {advice.What}", advice.Next) : new Gate(company.Code, $"server setting {advice.Name}",
                            GateState.Passed,
                        $"{store.Shown}: {advice.What}; {advice.Next}"));
            }
            catch (TransferraException error)
            {
                gates.Add(new Gate(company.Code, "database server", GateState.Blocked, error.Message, error.Next));
            }
        }
    }

    // What the last check found of this version; the upgrade checks again, with everybody out.
    private Gate CheckGate(Company company, KitVersion from)
    {
        const string name = "check";
        Checks.KeptCheck? kept = new Checks.KeptChecks(context.Office.Folder, context.Volume).Newest(company.Code);
        if (kept is null || kept.Result.Version != from.Name)
            return new Gate(company.Code, name, GateState.NotChecked, "the upgrade checks it, and stops it when there are faults",
                $"What would stop it is better known by day: transferra check {company.Code}");
        string at = $"checked {kept.At:yyyy-MM-dd HH:mm} UTC";
        return kept.Result.Faults == 0 && kept.Result.IsReadable ? new Gate(company.Code, name, GateState.Passed,
            $"{at}: nothing that would stop it")
            : new Gate(company.Code, name, GateState.WillStop,
                $"{at}: {kept.Result.Faults} fault{(kept.Result.Faults == 1 ? "" : "s")}; it will stop at its check, and the others go on",
                $"Put that right first, then check again: transferra check {company.Code}");
    }

    private static Gate CarryGate(string company, FilesCarried carry)
    {
        const string name = "files to carry";
        if (carry.WhyNot() is { } why) return new Gate(company, name, GateState.Blocked, why,
            $"Correct the entry under carry in {OfficeLoader.FileName}, or take it out.");
        IReadOnlyList<string> names = carry.Names();
        string[] over = [.. names.Where(file => File.Exists(Path.Combine(carry.To, file)))];
        string from = string.Create(CultureInfo.InvariantCulture, $"{names.Count} from {carry.From} to {carry.To}");
        return new Gate(company, name, GateState.Passed, over.Length == 0 ? from : string.Create(CultureInfo.InvariantCulture,
            $"{from}; there already, and overwritten with a copy kept: {over.Length} ({string.Join(", ", over.Take(5))}")
            + (over.Length > 5 ? ", ...)" : ")"));
    }

    // The store that the new one is to begin as: there, and of the version that the hop leads to.
    private void AddVendorMade(List<Gate> gates, Company company, Way way)
    {
        foreach (Hop hop in way.Hops.Where(hop => hop.Beginning.IsVendorMade))
        {
            string why = company.VendorMade is not { } made
                ? $"the hop to version {hop.To.Name} begins with the store that the vendor's new program makes, and none is named"
                : hop != way.Hops[^1] ? $"only the last hop of a way can begin so, and that to version {hop.To.Name} is not the last"
                : WhyNot(made, hop);
            gates.Add(Gate.If(why.Length == 0, company.Code, "store made by the vendor", why.Length == 0 ? company.VendorMade!.Shown : why,
                "Let the new program make its empty store, close it, and name it in "
                    + $"{OfficeLoader.FileName}, under the company: vendor-made"));
            if (why.Length == 0) AddShipped(gates, company, way, hop);
        }

        string WhyNot(StoreAddress made, Hop hop)
        {
            if (Means.CopyBeginning.Hindrance(made, company.NewStore) is { } other) return $"it cannot become the new store: {other}";
            try
            {
                using IStore store = context.Stores.Open(made, hop.To.TextEncoding);
                return Survey.SignsOf(company.Kit, store).Any(sign => sign.Version == hop.To.Name) ? ""
                    : $"{made.Shown} is not of version {hop.To.Name}";
            }
            catch (TransferraException error) { return error.Message; }
        }
    }

    // What the new program ships and ours would take the place of goes only on somebody's word, which says what it is.
    private void AddShipped(List<Gate> gates, Company company, Way way, Hop hop)
    {
        const string name = "records that the vendor ships";
        try
        {
            using IStore made = context.Stores.Open(company.VendorMade!, hop.To.TextEncoding),
                old = context.Stores.Open(company.OldStore, hop.From.TextEncoding);
            // Where others convert, the vendor's store tells what answers to what before anything is taken into it.
            bool isFirst = ReferenceEquals(way.Hops[0], hop);
            Correspondence known = isFirst && hop.ByNames is not null ? Conversion.ActualHop.Of(way, 0, old, () => made)
                : Conversion.CustomFields.Of(old, way.From).In(way).Hops.First(gone => gone.To.Name == hop.To.Name).Correspondence;
            var shipped = new Conversion.ShippedRecords(known, made, old, company.Answers, context.Cancel);
            // Behind other hops the old records of this one are not there yet, and as many may be overwritten as there are.
            ShippedAccount[] over = [.. (isFirst ? shipped.Resolved().ShippedAccounts : hop.ByNames is null ? shipped.AtMost()
                : shipped.All())
                .Where(account => account.Overwritten > 0 || account.Offset > 0)];
            if (over.Length == 0) return;
            string overwritten = string.Join(", ", over.Where(account => account.Overwritten > 0).Select(account =>
                string.Create(CultureInfo.InvariantCulture, $"{account.Table}: {account.Overwritten} of {account.Shipped}")));
            string question = (overwritten.Length > 0 ? $"Records that the new program ships are overwritten by ours: {overwritten}. " : "")
                + string.Concat(over.Where(account => account.Raised.Length > 0)
                    .Select(account => $"Beside what it ships, {account.Raised}. ")) + "Is that meant?";
            gates.Add(Spoken(company.Code, "", $"{company.Code}/overwrites", name, question,
                $"Otherwise say under shipped in {hop.File} that they stay."));
        }
        catch (TransferraException error) { gates.Add(new Gate(company.Code, name, GateState.Blocked, error.Message, error.Next)); }
    }

    private void AddWhole(List<Gate> gates, Company company, KitVersion from)
    {
        bool isCopied = company.WayBetween(from.Name, company.WantedVersion)?.IsOnCopy == true;
        try { WholeStore.Require(context, company, company.OldStore, from, isCopied); }
        catch (TransferraException error)
        {
            gates.Add(new Gate(company.Code, "whole database", GateState.Blocked, error.Message, error.Next));
        }
    }

    // Whether a set can be restored for proof is asked by day: without that, nobody knows whether the engine takes it back.
    private void AddProof(List<Gate> gates, Company company)
    {
        StoreAddress now = company.StoreNow(context.Places);
        if (!now.IsOnServer || ScratchDatabase.ServerFor(context.Office, company, now.Engine) is not { } server) return;
        string? hindrance;
        try { hindrance = context.Stores.ServerOf(server).Hindrances(null).FirstOrDefault(); }
        catch (TransferraException error) { hindrance = error.Message; }
        if (hindrance is not null)
            gates.Add(Spoken(company.Code, "", $"{company.Code}/read-back", "proof of the backup",
                $"Backup sets of {company.Code} can be read back, but not restored into a database for proof: {hindrance}. Is that enough?",
                $"Better, name a server where they can be, under backup in {OfficeLoader.FileName}: prove-on."));
    }

    private void AddRoom(List<Gate> gates, Company company, CompanySurvey survey, int hops)
    {
        long content = survey.StoreBytes + survey.DocumentBytes;
        // Packed sets are smaller, and never larger than this; each is unpacked once to be proved.
        foreach (string place in context.Office.Backup.Folders)
            if (room.Add(company.Code, "backup place", "backup set and its proof", place,
                2 * content) is { } unwritable) gates.Add(unwritable);
        // A converted copy can be larger than the old store: keys and indexes that it had not, dates written out.
        if (!company.NewStore.IsOnServer && room.Add(company.Code, "place of the new store", hops == 1 ? "converted copy"
            // Of a long way the stores between two hops go when both are proved.
            : hops == 2 ? "converted copies of 2 hops" : $"converted copies of {hops} hops, two at a time",
            company.NewStore.Folder, 2 * survey.StoreBytes * Math.Min(hops, 2)) is { } gate)
            gates.Add(gate);
    }

    /// <summary>A gate that only a person's word opens.</summary>
    public Gate Spoken(string company, string package, string confirm, string name, string question, string next = "") =>
        words.For(confirm, question) is { } word
        ? new Gate(company, name, GateState.Passed,
            $"{question} Confirmed by {word.By}, {word.At:yyyy-MM-dd HH:mm} UTC.")
        { Package = package }
        : new Gate(company, name, GateState.NeedsWord, question,
            $"{(next.Length > 0 ? next + " " : "")}When it is so: transferra ready --confirm {confirm}")
        { Package = package, Confirm = confirm };
}
