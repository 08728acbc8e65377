// RestoreCommand.cs: restore: a company back from a set, to its own place or into a new folder.
using System.CommandLine;
using Transferra.Cli.Rendering;
using Transferra.Core.Backup;
using Transferra.Core.Conversion;
using Transferra.Core.Kits;
using Transferra.Core.Machine;
using Transferra.Core.Matching;
using Transferra.Core.Means;
using Transferra.Core.Office;
using Transferra.Core.Records;
using Transferra.Core.Runs;

namespace Transferra.Cli.Commands;

internal static class RestoreCommand
{
    /// <summary>What is typed for it.</summary>
    public static void Declare(CommandSet commands)
    {
        var set = new Option<string?>("--set") { Description = "The backup set; the company's newest when left out", HelpName = "FILE" };
        var to = new Option<string?>("--to")
        {
            Description = "Unpack into this new folder instead of the company's own place",
            HelpName = "DIR"
        };
        var only = new Option<string?>("--only")
        {
            Description = "With --to: only names that begin with this, such as store, documents/0/letters, "
            + "kit, or table:NAME as delimited text",
            HelpName = "WHAT"
        };
        var contents = new Option<bool>("--show") { Description = "Only list what is in the set" };
        var database = new Option<string?>("--database")
        {
            Description = "Restore into a new database of this name; the other options "
            + "say where, the company's own server when left out",
            HelpName = "NAME"
        };
        var onEngine = new Option<string?>("--engine")
        {
            Description = "The server's engine, the set's own when left out: "
            + $"{string.Join(", ", StoreAddress.ServerEngines)}",
            HelpName = "ENGINE"
        };
        commands.Add("restore", "Put a company back from a backup set, or unpack a set, a table or a document elsewhere",
            [commands.Codes, set, to, only, contents, database, onEngine, commands.Host, commands.Port, commands.User,
                commands.PasswordFile, commands.Yes], (session, parsed) =>
            Run(session, parsed.GetValue(set), parsed.GetValue(to), parsed.GetValue(only), parsed.GetValue(contents),
                NamedDatabase.From(parsed.GetValue(database), parsed.GetValue(onEngine), parsed.GetValue(commands.Host),
                    parsed.GetValue(commands.Port),
                    parsed.GetValue(commands.User),
                parsed.GetValue(commands.PasswordFile))));
    }

    internal sealed record Restored(string Company, string Set, string To, IReadOnlyList<SetFault> Faults,
        IReadOnlyList<TableBaseline> Tables);

    public static int Run(Session session, string? setPath, string? to, string? only, bool showsOnly, NamedDatabase? database)
    {
        if (only is not null && to is null) throw new TransferraException("--only also needs --to DIR", "Name a new folder with --to DIR.");
        if (database is not null && to is not null) throw new TransferraException("a set is restored to one place: --to or --database",
            "Do one after the other.");
        if (setPath is not null && !session.HasOffice) return Bare(session, FullPath(setPath), to, only, showsOnly, database);
        if (session.Codes.Count != 1) throw new TransferraException("restore needs exactly one company code",
            "See which sets there are: transferra sets");
        Company company = session.Companies[0];
        BackupSetInfo set = session.Sets.Read(setPath is not null ? FullPath(setPath) : NewestOf(session, company));
        SetLabel label = set.Manifest.Label;
        if (label.Company != company.Code)
            throw new TransferraException($"the set {set.Path} is of the company {label.Company}, not of {company.Code}",
                "Name another set with --set FILE.");
        KitVersion version = company.Kit.Version(label.DataVersion)
            ?? throw new TransferraException($"the set is of data version {label.DataVersion}, "
                + $"which the kit {company.Kit.Id} does not know", "Use the kit that it was made with.");
        session.Screen.Line($"{company.Code} from {set.Path}");
        session.Screen.Line($"made {label.MadeAt:yyyy-MM-dd HH:mm} UTC by {label.MadeBy}, data version {label.DataVersion}, "
            + $"{Results.Count(set.Manifest.Files, "file")}, {Sizes.Of(set.Manifest.ContentBytes)}");
        foreach (LeftOut left in set.Manifest.LeftOut.Where(left =>
            !left.IsHarmless)) session.Screen.Look($"not in it: {left.Name}: {left.Why}");
        if (showsOnly) return Show(session, set);
        if (only is not null) return Some(session, version, set, Path.GetFullPath(to!), only);
        if (database is not null) return IntoDatabase(session, company, version, set, database);
        return to is not null ? Into(session, version, set, Path.GetFullPath(to)) : InPlace(session, company, version, set);
    }

    private static string FullPath(string path) => path.Contains("://", StringComparison.Ordinal) ? path : Path.GetFullPath(path);

    // On a machine that has nothing but this program and the set: the kit by which the records are understood is in it.
    private static int Bare(Session session, string path, string? to, string? only, bool showsOnly, NamedDatabase? database)
    {
        BackupSetInfo set = session.BareSets.Read(path);
        SetLabel label = set.Manifest.Label;
        session.Screen.Line($"{label.Company} ({label.CompanyName}) of {label.Office}, from {path}");
        session.Screen.Line($"made {label.MadeAt:yyyy-MM-dd HH:mm} UTC by {label.MadeBy}, {label.Package}, data version "
            + $"{label.DataVersion}, {Results.Count(set.Manifest.Files, "file")}, {Sizes.Of(set.Manifest.ContentBytes)}");
        if (showsOnly) return Show(session, set);
        if (database is not null) return IntoDatabase(session, null, null, set, database);
        if (to is null)
            throw new TransferraException($"there is no {OfficeLoader.FileName} here, so it is not known where the company belongs",
                "Name a new folder with --to DIR, or a new database with --database; or go to the office's folder.");
        if (only is not null) return Some(session, null, set, Path.GetFullPath(to), only);
        return Into(session, null, set, Path.GetFullPath(to));
    }

    // The newest set of a place that can be reached; a place that cannot is told, and does not keep the others from being used.
    private static string NewestOf(Session session, Company company)
    {
        ListedSet[] all = [.. session.Sets.List((place, why) => session.Screen.Look($"{place.Name} cannot be reached: {why}"))
            .Where(set => set.Label.Company == company.Code).OrderByDescending(set => set.Label.MadeAt)];
        string? mine = session.KnownIdentity?.Id;
        if (all.FirstOrDefault(set => set.Label.OfficeId == mine) is { } own && mine is not null) return own.Path;
        // On a new machine the office has a new identity; whose sets these are only a person can say.
        throw new TransferraException(all.Length == 0
            ? $"there is no backup set of {company.Code} in {string.Join(", ", session.Sets.Places.Select(place => place.Name))}"
            : $"there is no backup set of {company.Code} that this office made; the newest there is of "
                + $"{ValueText.Quote(all[0].Label.Office)}", all.Length == 0
            ? "Name one with --set FILE." : $"If it is the one you mean, name it: --set {all[0].Path}");
    }

    private static IReadOnlyList<SetFault> Unpack(Session session, BackupSetInfo set, string folder, Func<string, bool>? isWanted,
        Action? whenStoreIsUnpacked = null)
    {
        // Of a part, only that part is fetched.
        SetPlaces sets = session.HasOffice ? session.Sets : session.BareSets;
        using ISetFile file = isWanted is null
            ? sets.OpenWhole(set.Path, session.HasOffice ? CompanyBackup.Scratch(session.Office) : Path.GetDirectoryName(folder)!,
                (done, total) =>
            session.Screen.Progress.Show("fetching", done, total, isBytes: true), session.Cancel) : sets.Open(set.Path);
        return BackupSets.Unpack(file, folder, isWanted, (done, total) => session.Screen.Progress.Show("restoring", done, total,
            isBytes: true),
            whenStoreIsUnpacked, remark => session.Screen.Look("not brought back: " + remark), session.Cancel);
    }

    private static IReadOnlyList<TableBaseline> RecordsIn(Session session, KitVersion? version, BackupSetInfo set, string unpacked)
    {
        version ??= set.Manifest.Tables is null ? VersionIn(set.Manifest.Label, unpacked) : null;
        using IStore store = session.Stores.Open(StoreExport.Unpacked(set.Manifest.Store, unpacked), set.Manifest.Store.TextEncoding
            ?? version?.TextEncoding);
        return Baseline.Of(store, set.Manifest.ShapesOf(store, version), Silent.Observer, session.Cancel);
    }

    // Of a set that does not say its types: the kit that was unpacked with it.
    private static KitVersion VersionIn(SetLabel label, string unpacked)
    {
        var errors = new DescriptionErrors();
        Kit? kit = KitLoader.Load(Path.Combine(unpacked, "kit"), "kit", KnownKinds.All, errors);
        errors.ThrowIfAny();
        return kit?.Version(label.DataVersion) ?? throw new TransferraException($"the kit in the set knows no version {label.DataVersion}",
            "Use the kit that the set was made with, in an office of its own.");
    }

    // Unpacked beside where it is to be, in a folder that is made by us alone; renamed when it is whole.
    private static string Staged(Session session, ref string folder)
    {
        folder = Path.TrimEndingDirectorySeparator(folder);
        string above = Path.GetDirectoryName(folder) ?? throw new TransferraException("the root folder is not a place to restore into",
            "Name a new folder with --to.");
        session.Volume.CreateFolder(above);
        string staged = Path.Combine(above, $".{Path.GetFileName(folder)}.{Path.GetRandomFileName()}.restoring");
        session.Volume.MakeFolder(staged);
        return staged;
    }

    private static int Show(Session session, BackupSetInfo set)
    {
        session.Screen.Table(["Member", "Kind", ">Bytes", ">Packed", "Changed (UTC)"],
            set.Manifest.Members.Select(member => (IReadOnlyList<string>)
            [member.Name, member.Kind, Results.Number(member.Bytes), Results.Number(member.PackedBytes),
                member.Modified.UtcDateTime.ToString("yyyy-MM-dd HH:mm", System.Globalization.CultureInfo.InvariantCulture)]));
        session.Screen.Table(["Table", ">Records", "Fingerprint"],
            set.Manifest.Baseline.Select(table => (IReadOnlyList<string>)[table.Table, Results.Number(table.Records),
                table.Fingerprint[..16]]));
        return session.Answer(ExitCodes.Done, set.Manifest);
    }

    internal sealed record RestoredSome(string Company, string Set, string To, IReadOnlyList<SetFault> Faults, IReadOnlyList<string> Files);

    private const string TablePrefix = "table:";

    // A part of a set: members by the beginning of their names, or one table as delimited text.
    private static int Some(Session session, KitVersion? version, BackupSetInfo set, string folder, string only)
    {
        string code = set.Manifest.Label.Company;
        if (Path.Exists(folder)) throw new TransferraException($"{folder} is there already", "Name a new folder with --to.");
        bool isTable = only.StartsWith(TablePrefix, StringComparison.Ordinal);
        bool wanted(string name) => isTable ? name.StartsWith("store/", StringComparison.Ordinal) : name == only
            || name.StartsWith(only.TrimEnd('/') + "/", StringComparison.Ordinal);
        if (!set.Manifest.Members.Any(member => wanted(member.Name)))
            throw new TransferraException($"nothing in the set begins with {only}", "See what is in it: transferra restore CODE --show");
        string staged = Staged(session, ref folder);
        try
        {
            IReadOnlyList<SetFault> faults = Unpack(session, set, staged, wanted);
            if (faults.Count > 0)
            {
                foreach (SetFault fault in faults) session.Screen.Error($"{fault.Member}: {fault.What}");
                session.Screen.Error("  The set is damaged; nothing was restored. Use another set, or heal it: transferra sets --heal");
                return session.Answer(ExitCodes.Unproved, new RestoredSome(code, set.Path, folder, faults, []));
            }
            string made = staged;
            if (isTable)
            {
                made = Path.Combine(staged, "text");
                WriteTable(session, version, set, staged, only[TablePrefix.Length..], made);
            }
            session.Volume.Rename(made, folder);
            session.Volume.FlushFolder(Path.GetDirectoryName(folder)!);
            string[] files = [.. Directory.EnumerateFiles(folder, "*", SearchOption.AllDirectories)
                .Select(file => Path.GetRelativePath(folder, file))
                .Order(StringComparer.Ordinal)];
            session.Screen.Good($"Restored into {folder}: {Results.Count(files.Length, "file")}, as backed up.");
            return session.Answer(ExitCodes.Done, new RestoredSome(code, set.Path, folder, [], files));
        }
        finally
        {
            session.Volume.Remove(staged);
        }
    }

    private static void WriteTable(Session session, KitVersion? version, BackupSetInfo set, string unpacked, string name, string into)
    {
        using IStore store = session.Stores.Open(StoreExport.Unpacked(set.Manifest.Store, unpacked), version?.TextEncoding
            ?? set.Manifest.Store.TextEncoding);
        IReadOnlyList<TableShape> tables = version is null ? set.Manifest.ShapesOf(store, null)
            : CustomFields.Of(store, version).In(version).Tables;
        TableShape table = tables.FirstOrDefault(known => string.Equals(known.Name, name,
            StringComparison.OrdinalIgnoreCase))
            ?? throw new TransferraException($"there is no table {name} in version {set.Manifest.Label.DataVersion}",
                $"The tables are {string.Join(", ", tables.Select(known => known.Name))}.");
        using IStoreBuilder builder = session.Stores.Create(StoreExport.At(into));
        TableShape plain = table with
        {
            Key = [],
            Relations = [],
            Indexes = [],
            Columns = [.. table.Columns.Select(column => column with { Required = false })]
        };
        builder.CreateTable(plain);
        var rejects = new List<RowReject>();
        foreach (RecordBatch batch in store.Batches(table, table.Key, session.Cancel))
        {
            if (batch.Faults is [var fault, ..])
                throw new TransferraException($"a value of {name}.{fault.Column} cannot be written out: {fault.Reason}",
                    "Restore the store itself: --only store");
            builder.Write([new TableOutput(plain, batch.Vectors)], [.. Enumerable.Range(0, batch.RowCount)], rejects);
            if (rejects is [var reject, ..]) throw new TransferraException($"a record of {name} cannot be written out: {reject.Reason}",
                "Restore the store itself: --only store");
        }
        builder.Complete(new Dictionary<string, string>());
    }

    private static int Into(Session session, KitVersion? known, BackupSetInfo set, string folder)
    {
        if (Path.Exists(folder) && (File.Exists(folder) || Directory.EnumerateFileSystemEntries(folder).Any()))
            throw new TransferraException($"{folder} is there already and not empty", "Name a new folder with --to.");
        string staged = Staged(session, ref folder);
        try
        {
            // The records are compared while the documents are still being unpacked.
            Task<IReadOnlyList<TableBaseline>>? comparing = null;
            IReadOnlyList<SetFault> faults;
            bool tellsItself = known is not null || set.Manifest.Tables is not null;
            try
            {
                faults = Unpack(session, set, staged, null, () => comparing = tellsItself
                    ? Task.Run(() => RecordsIn(session, known, set, staged)) : null);
            }
            finally
            {
                if (comparing is not null) ((IAsyncResult)comparing).AsyncWaitHandle.WaitOne();
            }
            IReadOnlyList<TableBaseline> tables = faults.Count > 0 ? [] : comparing is not null
                ? comparing.GetAwaiter().GetResult() : RecordsIn(session, known, set, staged);
            if (faults.Count == 0) faults = BackupSets.CompareRecords(set.Manifest, tables);
            if (faults.Count > 0)
            {
                foreach (SetFault fault in faults) session.Screen.Error($"{fault.Member}: {fault.What}");
                session.Screen.Error("  The set is damaged; nothing was restored. Use another set.");
                return session.Answer(ExitCodes.Unproved, new Restored(set.Manifest.Label.Company, set.Path, folder, faults, []));
            }
            if (Directory.Exists(folder)) Directory.Delete(folder);
            session.Volume.Rename(staged, folder);
            session.Volume.FlushFolder(Path.GetDirectoryName(folder)!);
            session.Screen.Table(["Table", ">Records", "Fingerprint", "As backed up"],
                tables.Select(table => (IReadOnlyList<string>)[table.Table, Results.Number(table.Records), table.Fingerprint[..16],
                    "yes"]));
            session.Screen.Good($"Restored into {folder}; every byte and every record is as backed up.");
            return session.Answer(ExitCodes.Done, new Restored(set.Manifest.Label.Company, set.Path, folder, [], tables));
        }
        finally
        {
            session.Volume.Remove(staged);
        }
    }

    internal sealed record RestoredDatabase(string Company, string Set, string Database, IReadOnlyList<SetFault> Faults,
        IReadOnlyList<TableBaseline> Tables,
        IReadOnlyList<string> NotBroughtBack);

    // A database of its own, on any server of any version of the engine, or of another engine; nothing that is there is touched.
    private static int IntoDatabase(Session session, Company? company, KitVersion? version, BackupSetInfo set, NamedDatabase named)
    {
        StoreAddress target = named.Address(set.Manifest.Store.Engine, company is null ? [] : [company.OldStore, company.NewStore]);
        string code = set.Manifest.Label.Company;
        if (!StoreAddress.ServerEngines.Contains(set.Manifest.Store.Engine))
            throw new TransferraException($"the set holds the store as files ({set.Manifest.Store.Engine}), "
                + "which no server takes as they are",
                "Restore it with --to DIR; to move it to a server, name a new-store in office.yaml and convert.");
        // In a folder of ours, what an interrupted one left has one name and goes; elsewhere nothing goes that we did not make.
        string staged = Path.Combine(session.Scratch, session.HasOffice ? code + ".restoring"
            : $".{code}.{Path.GetRandomFileName()}.restoring");
        if (session.HasOffice) session.Volume.Remove(staged);
        session.Volume.CreateFolder(session.Scratch);
        session.Volume.MakeFolder(staged);
        try
        {
            IReadOnlyList<SetFault> faults = Unpack(session, set, staged, BackupSets.IsOfStore);
            IReadOnlyList<string> remarks = [];
            IReadOnlyList<TableBaseline> tables = [];
            if (faults.Count == 0)
            {
                IProgressObserver observer = session.Observer().At("loading");
                remarks = StoreExport.Load(Path.Combine(staged, "store", set.Manifest.Store.Name), session.Stores, target, observer,
                    session.Cancel);
                using IStore store = session.Stores.Open(target, version?.TextEncoding);
                tables = Baseline.Of(store, set.Manifest.ShapesOf(store, version), session.Observer().At("comparing"),
                    session.Cancel);
                faults = BackupSets.CompareRecords(set.Manifest, tables);
            }
            foreach (SetFault fault in faults) session.Screen.Error($"{fault.Member}: {fault.What}");
            foreach (string remark in remarks) session.Screen.Look("not brought back: " + remark);
            if (tables.Count > 0)
                session.Screen.Table(["Table", ">Records", "Fingerprint", "As backed up"],
                    tables.Select(table => (IReadOnlyList<string>)[table.Table, Results.Number(table.Records), table.Fingerprint[..16],
                    set.Manifest.Baseline.Any(table.IsSameAs) ? "yes" : "NO"]));
            if (faults.Count == 0) session.Screen.Good($"Restored into {target.Shown}; every record is as backed up.");
            else if (tables.Count > 0) session.Screen.Error($"  {target.Shown} is left as it is, to be looked at.");
            return session.Answer(faults.Count > 0 ? ExitCodes.Unproved : remarks.Count > 0 ? ExitCodes.LookAt : ExitCodes.Done,
                new RestoredDatabase(code, set.Path, target.Shown, faults, tables, remarks));
        }
        finally
        {
            session.Volume.Remove(staged);
        }
    }

    private static int InPlace(Session session, Company company, KitVersion version, BackupSetInfo set)
    {
        using IDisposable one = session.LockStores();
        Companies.RefuseWhileUnfinished(session.Runs);
        IReadOnlyList<string> holders = session.Places.OpenedBy(company.StoreNow(session.Places));
        if (holders.Count > 0) throw new TransferraException($"the store of {company.Code} is open: {holders[0]}",
            "Close it there, then try again.");
        RunContext context = session.Context(session.Observer());
        WholeStore.Require(context, company, company.StoreNow(session.Places), version, isCopied: false,
            [.. set.Manifest.Tables?.Select(table => table.Name) ?? []]);
        if (!session.Confirm([company.Code], "Set aside the present data and restore")) return session.Answer(ExitCodes.Refused,
            new JsonFacts { { "confirmed", false } });
        var facts = new Dictionary<string, string>
        {
            [$"{company.Code}.token"] = WorkFolder.NewToken(),
            [$"{company.Code}.from"] = version.Name,
            [$"{company.Code}.to"] = version.Name,
            [$"{company.Code}.set"] = set.Path,
            [$"{company.Code}.store"] = company.OldStore.Shown,
            [$"{company.Code}.set-store"] = set.Manifest.Store.Name,
            [$"{company.Code}.had-store"] = session.Places.Exists(company.OldStore) ? "1" : "0",
            [$"{company.Code}.had-new-store"] = company.MovesTo is not null && session.Places.Exists(company.MovesTo) ? "1" : "0",
        };
        for (int i = 0; i < company.DocumentFolders.Count; i++)
        {
            string folder = FormattableString.Invariant($"documents/{i}");
            facts[FormattableString.Invariant($"{company.Code}.has-documents-{i}")] = set.Manifest.Members.Any(member =>
                member.Name == folder) ? "1" : "0";
            facts[FormattableString.Invariant($"{company.Code}.had-documents-{i}")] = Directory.Exists(company.DocumentFolders[i]) ? "1"
                : "0";
        }
        Run run = session.Runs.Begin(RunKind.Restore.Name, [company], Session.Version, facts);
        CompanyOutcome outcome = UpgradeRun.Execute(context, run)[0];
        if (outcome.IsThrough) session.Screen.Line($"To go back to what was there: transferra undo --run {run.Id}");
        else if (!outcome.IsSettled) session.Screen.Error("  " + UpgradeCommand.Unsettled(outcome));
        return session.Answer(outcome.IsThrough ? ExitCodes.Done : outcome.IsSettled ? ExitCodes.Unproved : ExitCodes.PartWay, outcome);
    }
}
