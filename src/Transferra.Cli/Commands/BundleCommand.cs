// BundleCommand.cs: bundle: what the vendor needs to look into a company's trouble, masked, with a listing to be read first.
using System.CommandLine;
using System.Globalization;
using Transferra.Cli.Rendering;
using Transferra.Core.Conversion;
using Transferra.Core.Kits;
using Transferra.Core.Machine;
using Transferra.Core.Office;
using Transferra.Core.Records;
using Transferra.Core.Support;
using Transferra.Core.Surveys;

namespace Transferra.Cli.Commands;

internal static class BundleCommand
{
    /// <summary>What is typed for it.</summary>
    public static void Declare(CommandSet commands)
    {
        var bundleFile = new Option<string?>("--to")
        {
            Description = "The bundle's file (.zip); one in the office's folder when left out",
            HelpName = "FILE"
        };
        commands.Add("bundle",
            "What the vendor needs to look into a company's trouble, with personal values masked, and a listing to read first",
            [commands.Codes, bundleFile, commands.ShowOnly], (session, parsed) => Run(session, parsed.GetValue(bundleFile),
                parsed.GetValue(commands.ShowOnly)));
    }

    public static int Run(Session session, string? to, bool showsOnly)
    {
        if (session.Codes.Count == 0)
            throw new TransferraException("bundle needs the code of at least one company",
                $"The companies are {string.Join(", ", session.Office.Companies.Select(company => company.Code))}.");
        if (to is not null && session.Codes.Count > 1)
            throw new TransferraException("--to names one file, and several companies were named",
                "Make their bundles one after the other.");
        var results = new List<BundleResult>();
        OfficeSurvey survey = Survey.Of(session.Office, session.Tools, looksForMore: false);
        foreach (Company company in session.Companies) results.Add(One(session, company, survey, to, showsOnly));
        return session.Answer(ExitCodes.Done, results);
    }

    private static BundleResult One(Session session, Company company, OfficeSurvey survey, string? to, bool showsOnly)
    {
        Package package = session.Office.Packages.First(package => package.Companies.Any(known => known.Code == company.Code));
        PackageSurvey found = survey.Packages.First(found => found.Companies.Any(known => known.Code == company.Code));
        string? told = found.Companies.First(known => known.Code == company.Code).DataVersion;
        // Nobody needs a bundle more than a company whose store tells no version any more.
        KitVersion version = (told is null ? null : company.Kit.Version(told)) ?? company.Kit.Versions[0];
        using IStore? store = TryOpen(session, company, version);
        try
        {
            if (store is not null && version.IsOfStore) version = CustomFields.Of(store, version).In(version);
        }
        catch (TransferraException) { /* the kit does not fit the store: what may be masked is masked */ }
        var bundle = new SupportBundle(session.Office, package, company, version, Session.Version);
        bundle.Gather(found, session.Checks.Newest(company.Code), store, session.Runs.List());
        session.Screen.Heading($"{company.Code}  support bundle: read what is in it before you send it");
        session.Screen.Table(["File", ">Bytes", "What it is"],
            bundle.Files.Select(file => (IReadOnlyList<string>)[file.Name, Results.Number(file.Bytes), file.What]));
        session.Screen.Line("Not in it: " + string.Join("; ", bundle.NotIn) + ".");
        if (session.Office.Contact.Count == 0) session.Screen.Look("office.yaml names nobody to answer to; add: contact: {person: ..., "
            + "phone: ..., mail: ...}");
        if (showsOnly) return new BundleResult(company.Code, "", bundle.Files, bundle.NotIn);
        string path = to is not null ? Path.GetFullPath(to) : Free(session, company);
        if (Path.Exists(path)) throw new TransferraException($"{path} is there already", "Name a file that is not there yet.");
        bundle.Write(path, session.Volume);
        session.Screen.Good($"Written: {path}");
        return new BundleResult(company.Code, path, bundle.Files, bundle.NotIn);
    }

    private static IStore? TryOpen(Session session, Company company, KitVersion version)
    {
        try
        {
            return session.Stores.Open(company.StoreNow(session.Places), version.TextEncoding);
        }
        catch (TransferraException)
        {
            return null; // said in the survey, which is in the bundle
        }
    }

    private static string Free(Session session, Company company)
    {
        string folder = Path.Combine(session.OfficeFolder, "transferra", "bundles");
        session.Volume.CreateFolder(folder);
        DateTime at = DateTime.UtcNow;
        string path;
        do path = Path.Combine(folder, string.Create(CultureInfo.InvariantCulture,
            $"{company.Code}_{company.Kit.Id}_{at:yyyyMMdd-HHmmss}.zip"));
        while (Path.Exists(path) && (at = at.AddSeconds(1)) > default(DateTime));
        return path;
    }
}
