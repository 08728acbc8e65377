// HtmlSurvey.cs: what an office has, as a page to print and put into the file before anything is touched.
using System.Xml.Linq;
using Transferra.Core.Machine;
using Transferra.Core.Surveys;
using static Transferra.Reports.HtmlPage;

namespace Transferra.Reports;

/// <summary>Renders a survey as HTML.</summary>
public static class HtmlSurvey
{
    /// <summary>The page.</summary>
    public static string Render(OfficeSurvey survey) => Page($"Survey: {survey.Office}", [Head(survey), survey.Packages.Select(Package),
        Rest(survey)]);

    private static IEnumerable<XElement> Head(OfficeSurvey survey)
    {
        yield return new XElement("h1", survey.Office);
        yield return new XElement("p", Class("soft"), $"What it has, as found {Time(survey.At)}; nothing was changed");
        foreach (string remark in survey.Packages.SelectMany(package => package.Remarks)) yield return new XElement("div",
            Class("box bad"), remark);
        if (survey.Unlisted.Count == 0) yield break;
        yield return new XElement("div", Class("box bad"),
            new XElement("p", "Stores of these packages that office.yaml does not name; nobody backs them up or upgrades them:"),
            Table(["Package", "Data version", "Where"], survey.Unlisted.Select(store => new object[] { store.Title, store.DataVersion,
                Mono(store.Address.Shown) })));
    }

    private static IEnumerable<XElement> Package(PackageSurvey package)
    {
        yield return new XElement("h2", package.Title);
        yield return new XElement("dl", Pair("Program version", package.ProgramVersion ?? "not told, or told differently"),
            package.ProgramSigns.Select(sign => Pair("", $"{sign.Where}: {sign.Says}")),
            package.Components.Select(component => Pair(component.Name, component.Version ?? "not told")),
                package.Workstations.Select(workstation => Pair($"Workstation {workstation.Name}", workstation.Version ?? "not told")));
        yield return Table(["Company", "Data version", "Wanted", ">Tables", ">Records", ">Store", "Engine", "Last change", ">Documents",
            "Open in"],
            package.Companies.Select(company => new object[]
        {
            $"{company.Code}, {company.Name}", company.DataVersion ?? "not told", company.WantedVersion, Number(company.Tables.Count),
                Number(company.Records),
                Sizes.Of(company.StoreBytes), company.Engine,
            company.LastChange is { } at ? Time(at) : "", Number(company.Documents), company.OpenedBy.Count == 0 ? "nobody"
                : string.Join("; ", company.OpenedBy),
        }));
        foreach (CompanySurvey company in package.Companies)
        {
            yield return new XElement("h3", company.Code, ": ", Mono(company.StorePath), company.ReallyAt.Length > 0
                ? Mono($", really at {company.ReallyAt}") : null);
            if (company.Problem.Length > 0) yield return new XElement("div", Class("box bad"), new XElement("p", company.Problem),
                new XElement("p", company.Next));
            yield return new XElement("dl", company.Signs.Select(sign => Pair("Version by", $"{sign.Where}: {sign.Says}")),
                company.Facts.Select(fact => Pair(fact.Key.Replace('_', ' '), fact.Value)),
                company.DocumentFolders.Select(folder => Pair("Documents in", Mono(folder))),
                company.Settings.Select(setting => Pair($"Setting {setting.Name}", setting.Value ?? "(not set)")));
            if (company.Objects.Count > 0) yield return Table(["Beside its tables", "Name", "Of"],
                company.Objects.Select(one => new object[] { one.Kind, one.Name, one.Of }));
            if (company.CustomFiles.Count > 0) yield return Files(company.CustomFiles);
            yield return Table(["Table", ">Records"], company.Tables.Select(table => new object[] { table.Key, Number(table.Value) }));
        }
        if (package.Settings.Count > 0)
        {
            yield return new XElement("h3", "Settings of the program");
            yield return Table(["Setting", "Value", "Written in"],
                package.Settings.Select(setting => new object[] { setting.Name, setting.Value ?? "(not set)", Mono(setting.Where) }));
        }
        if (package.CustomFiles.Count > 0) yield return Files(package.CustomFiles);
    }

    private static XElement Files(IReadOnlyList<CustomFile> files) => Table(["File not as shipped", "State"],
        files.Select(file => new object[] { Mono(file.Path), file.State }));

    private static IEnumerable<XElement> Rest(OfficeSurvey survey)
    {
        if (survey.Services.Count == 0) yield break;
        yield return new XElement("h2", "Services and jobs");
        yield return Table(["Name", "Kind", "State", "Listens on", "When closed"],
            survey.Services.Select(service => new object[] { service.Name, service.Kind, service.State, string.Join(", ", service.Ports),
                service.StaysUp
            ? "stays up" : "stopped" }));
    }
}
