// KitCommand.cs: kit draft: writes a kit from what stores tell by themselves, so that nobody has to. kit check: looks through one before
// any data is touched. kit show: what it knows, as a list and as a page.
using System.CommandLine;
using Transferra.Cli.Rendering;
using Transferra.Core.Drafting;
using Transferra.Core.Kits;
using Transferra.Core.Machine;
using Transferra.Core.Means;
using Transferra.Core.Office;
using Transferra.Core.Records;
using Transferra.Core.Runs;
using Transferra.Reports;

namespace Transferra.Cli.Commands;

internal static class KitCommand
{
    /// <summary>What is typed for it.</summary>
    public static void Declare(CommandSet commands)
    {
        DeclareDraft(commands);
        DeclareCheck(commands);
        DeclareShow(commands);
    }

    private static void DeclareDraft(CommandSet commands)
    {
        var old = new Option<string?>("--old")
        {
            Description = "The store to draft from, or the old one of two: a file, a folder, a set, or a store on a server as office.yaml "
                + "writes it",
            HelpName = "PLACE",
            Required = true
        };
        var renewed = new Option<string?>("--new") { Description = "What it became, when that is there, too", HelpName = "PLACE" };
        var scripts = new Option<string[]>("--script")
        {
            Description = "A script of the vendor that converts; once for each, in their order",
            HelpName = "FILE"
        };
        var name = new Option<string?>("--name") { Description = "The kit's name; that of the old store when left out", HelpName = "NAME" };
        var from = new Option<string?>("--from")
        {
            Description = "The old version; what the store says when left out",
            HelpName = "VERSION"
        };
        var to = new Option<string?>("--to")
        {
            Description = "The new version; what the store says when left out",
            HelpName = "VERSION"
        };
        var folder = new Option<string?>("--into")
        {
            Description = "Folder for the kit, which must not be there yet; kits/NAME when left out",
            HelpName = "FOLDER"
        };
        var encoding = new Option<string?>("--encoding")
        {
            Description = "Code page of the old store's text, such as ibm850; what the store says, or UTF-8, when left out",
            HelpName = "NAME"
        };
        commands.Add("kit draft", "Draft a kit from a store, from an old and a new one, or for the vendor's scripts",
            [old, renewed, scripts, name, from, to, folder, encoding], (session, parsed) => Draft(session,
                parsed.GetValue(old)!, parsed.GetValue(renewed), BareStore.KnownEncoding(parsed.GetValue(encoding)),
                    parsed.GetValue(scripts) ?? [],
                    new DraftWishes(parsed.GetValue(name) ?? "",
                    parsed.GetValue(from), parsed.GetValue(to), [], []), parsed.GetValue(folder)));
    }

    private static void DeclareCheck(CommandSet commands)
    {
        var folders = new Argument<string[]>("folder")
        {
            Description = "Folders of kits; those of the office when left out, with its stores",
            Arity = ArgumentArity.ZeroOrMore,
            HelpName = "FOLDER"
        };
        var over = new Option<string?>("--old") { Description = "Also hold the kit against this store", HelpName = "PLACE" };
        commands.Add("kit check", "Look through a kit before any data is touched", [folders, over], (session, parsed) =>
            Check(session, parsed.GetValue(folders) ?? [], parsed.GetValue(over)));
    }

    private static void DeclareShow(CommandSet commands)
    {
        var folders = new Argument<string[]>("folder")
        {
            Description = "Folders of kits, or packed kits; those of the office when left out, with what its stores tell",
            Arity = ArgumentArity.ZeroOrMore,
            HelpName = "FOLDER"
        };
        commands.Add("kit show", "Show what is known of a package: versions, ways, and what becomes of its tables", [folders,
            commands.Html],
            (session, parsed) => Show(session, parsed.GetValue(folders) ?? [], parsed.GetValue(commands.Html)));
    }

    internal sealed record Shown(string Kit, string Title, IReadOnlyList<string> Versions, IReadOnlyList<ShownHop> Hops,
        IReadOnlyList<KitRun> Runs, KitSeal Seal);

    internal sealed record ShownHop(string From, string To, string Means, string Beginning, IReadOnlyList<ShownTable> Tables);

    internal sealed record ShownTable(string Old, string New, IReadOnlyDictionary<string, string> Columns);

    private static int Show(Session session, string[] folders, string? html)
    {
        OpenedKit[] named = [.. folders.Select(folder => OpenedKit.Of(session, Path.GetFullPath(folder)))];
        try
        {
            return Show(session, named.Length > 0 ? [.. named.Select(opened => opened.Kit)]
                : [.. session.Office.Packages.Select(package => OverItsStore(session, package))], html);
        }
        finally
        {
            foreach (OpenedKit opened in named) opened.Dispose();
        }
    }

    private static int Show(Session session, Kit[] kits, string? html)
    {
        if (html is not null && kits.Length != 1)
            throw new TransferraException("--html makes the page of one kit", $"Name its folder; there are {kits.Length}.");
        foreach (Kit kit in kits) KitResults.Show(session.Screen, kit);
        if (html is not null) SurveyCommand.WriteFile(session.Screen, html, HtmlKit.Render(kits[0]));
        return session.Answer(ExitCodes.Done, kits.Select(kit => new Shown(kit.Id, kit.Title, [.. kit.Versions.Select(version =>
            version.Name)], [.. kit.Hops.Select(hop => new ShownHop(hop.From.Name, hop.To.Name, hop.Means.Name, hop.Beginning.Name,
                [.. hop.Correspondence.Tables.SelectMany(map => map.Into.Select(target => new ShownTable(map.From.Name, target.Table.Name,
                    target.Columns.ToDictionary(column => column.Column.Name, KitOverStore.InWords))))]))],
            KitRuns.Of(kit), KitSeal.Of(kit.Folder))));
    }

    /// <summary>A kit in a folder, without anything of it being run.</summary>
    public static Kit Loaded(string folder)
    {
        var errors = new DescriptionErrors();
        Kit? kit = KitLoader.Load(Path.GetFullPath(folder), folder, KnownKinds.All, errors);
        errors.ThrowIfAny();
        return kit!;
    }

    private static Kit OverItsStore(Session session, Package package)
    {
        if (package.Companies.Count == 0) return package.Kit;
        try
        {
            using IStore store = session.Stores.Open(package.Companies[0].OldStore, package.Kit.Versions[0].TextEncoding);
            return KitOverStore.Of(package.Kit, store);
        }
        catch (TransferraException) { return package.Kit; }
    }

    internal sealed record Checked(string Kit, string Folder, IReadOnlyList<KitRemark> Remarks);

    private static int Check(Session session, string[] folders, string? over)
    {
        if (over is not null && folders.Length != 1)
            throw new TransferraException("--old holds one kit against a store", "Name one folder of a kit with it.");
        List<Checked> results = folders.Length == 0 ? OfOffice(session) : [.. folders.Select(folder => OfFolder(session, folder, over))];
        foreach (Checked result in results) KitResults.Check(session.Screen, result.Kit, result.Folder, result.Remarks);
        KitRemark[] all = [.. results.SelectMany(result => result.Remarks)];
        return session.Answer(all.Any(remark => remark.Grade == RemarkGrade.Mistake) ? ExitCodes.Refused
            : all.Any(remark => remark.Grade == RemarkGrade.Doubt) ? ExitCodes.LookAt : ExitCodes.Done, results);
    }

    private static Checked OfFolder(Session session, string folder, string? over)
    {
        var errors = new DescriptionErrors();
        Kit? kit = KitLoader.Load(Path.GetFullPath(folder), folder, KnownKinds.All, errors);
        if (errors.Count > 0 || kit is null)
            return new Checked(kit?.Id ?? Path.GetFileName(folder), folder, [.. errors.Since(0).Select(error => new KitRemark(
                RemarkGrade.Mistake, FormattableString.Invariant($"{error.File}:{error.Line}:{error.Column}"), error.What,
                    "Correct it."))]);
        List<KitRemark> remarks = [.. KitCheck.Of(kit)];
        if (over is not null)
        {
            using NamedPlace place = NamedPlace.Of(session, over);
            using IStore store = session.Stores.Open(place.Side.Address, place.Side.TextEncoding ?? kit.Versions[0].TextEncoding);
            remarks.AddRange(KitCheck.Over(kit, store, place.Shown, null));
        }
        return new Checked(kit.Id, folder, remarks);
    }

    // Each kit of the office, and each of its companies' stores against it.
    private static List<Checked> OfOffice(Session session) => [.. session.Office.Packages.Select(package =>
    {
        List<KitRemark> remarks = [.. KitCheck.Of(package.Kit)];
        foreach (Company company in package.Companies)
        {
            StoreAddress address = company.StoreNow(session.Places);
            try
            {
                using IStore store = session.Stores.Open(address, company.Kit.Versions[0].TextEncoding);
                remarks.AddRange(KitCheck.Over(package.Kit, store, company.Code, company.WantedVersion));
            }
            catch (TransferraException error)
            {
                remarks.Add(new KitRemark(RemarkGrade.Doubt, company.Code, $"its store could not be looked at: {error.Message}",
                    error.Next));
            }
        }
        return new Checked(package.Kit.Id, package.Kit.Folder, remarks);
    })];

    internal sealed record Drafted(string Folder, int Lines, int Questions, DraftedKit Kit);

    private static int Draft(Session session, string from, string? to, string? encoding, string[] scripts, DraftWishes wishes, string? into)
    {
        using NamedPlace old = NamedPlace.Of(session, from);
        using NamedPlace? renewed = to is null ? null : NamedPlace.Of(session, to);
        string id = wishes.Id.Length > 0 ? wishes.Id : NameOf(old.Side);
        string folder = Path.GetFullPath(into ?? Path.Combine(session.OfficeFolder, "kits", id));
        if (Directory.Exists(folder) && Directory.EnumerateFileSystemEntries(folder).Any() || File.Exists(folder))
            throw new TransferraException($"{folder} is there already", "A draft replaces nothing; name another with --into or --name.");
        if (scripts.Length > 0 && wishes.To is null && to is null)
            throw new TransferraException("which version the scripts lead to is not known", "Say it: --to VERSION");
        foreach (string script in scripts.Where(script => !File.Exists(script)))
            throw new TransferraException($"the script {script} is not there", "Check its name.");
        wishes = wishes with
        {
            Id = id,
            Scripts = [.. scripts.Select(script => "scripts/" + Path.GetFileName(script))],
            Remarks = scripts.Length == 0 ? [] : [.. TouchedByScripts.Of(scripts, old.Side.Address.Engine).Select(line => "the scripts: "
                + line)],
        };
        session.Screen.Heading(renewed is null ? $"kit draft: what {old.Shown} tells by itself"
            : $"kit draft: what became of {old.Shown} in {renewed.Shown}");
        bool wasThere = Directory.Exists(folder);
        session.Volume.CreateFolder(Path.GetDirectoryName(folder)!);
        string staged = Path.Combine(Path.GetDirectoryName(folder)!, $".{Path.GetFileName(folder)}-{Path.GetRandomFileName()}");
        session.Volume.MakeFolder(staged);
        try
        {
            // The draft is tried as it will lie, with its scripts beside it.
            string kit = Path.Combine(staged, "kit");
            session.Volume.CreateFolder(Path.Combine(kit, "scripts"));
            foreach (string script in scripts) File.Copy(script, Path.Combine(kit, "scripts", Path.GetFileName(script)));
            DraftedKit drafted = KitDrafting.Run(session.Stores, Side(old, encoding), renewed is null ? null : Side(renewed), wishes,
                KnownKinds.All,
                staged, session.Observer().At("draft"), session.Cancel);
            if (scripts.Length == 0) session.Volume.Remove(Path.Combine(kit, "scripts"));
            if (wasThere) session.Volume.Remove(folder);
            Directory.Move(kit, folder);
            KitResults.Draft(session.Screen, drafted, folder);
            return session.Answer(drafted.Questions > 0 || drafted.NotRead.Count > 0 ? ExitCodes.LookAt : ExitCodes.Done,
                new Drafted(folder, drafted.Text.Split('\n').Length - 1, drafted.Questions, drafted));
        }
        finally { session.Volume.Remove(staged); }
    }

    private static DraftSide Side(NamedPlace place, string? encoding = null) =>
        new(place.Side.Address, place.Side.Tables, encoding ?? place.Side.TextEncoding, place.Shown);

    private static string NameOf(BareSide side)
    {
        string name = string.Concat(Path.GetFileNameWithoutExtension(side.Address.Name).ToLowerInvariant().Select(c =>
            char.IsAsciiLetterOrDigit(c) ? c : '-')).Trim('-');
        return name.Length > 0 ? name : "draft";
    }
}
