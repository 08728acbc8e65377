// SurveyComparison.cs: what is different between two surveys of an office: versions, settings, components, services, files, records.
using System.Globalization;

namespace Transferra.Core.Surveys;

/// <summary>Something that differs.</summary>
/// <param name="What">What it is.</param>
/// <param name="Before">As it was; "" when it was not there.</param>
/// <param name="Now">As it is; "" when it is gone.</param>
public sealed record SurveyDifference(string What, string Before, string Now);

/// <summary>Compares surveys.</summary>
public static class SurveyComparison
{
    /// <summary>What differs, in the order of the survey.</summary>
    public static IReadOnlyList<SurveyDifference> Of(OfficeSurvey before, OfficeSurvey now)
    {
        Dictionary<string, string> old = Facts(before), current = Facts(now);
        return [.. old.Keys.Concat(current.Keys).Distinct().Where(what => old.GetValueOrDefault(what) != current.GetValueOrDefault(what))
            .Select(what => new SurveyDifference(what, old.GetValueOrDefault(what, ""), current.GetValueOrDefault(what, "")))];
    }

    private static Dictionary<string, string> Facts(OfficeSurvey survey)
    {
        var facts = new Dictionary<string, string>();
        foreach (PackageSurvey package in survey.Packages)
        {
            facts[$"{package.Title}, program version"] = package.ProgramVersion ?? "not told";
            foreach (ComponentSurvey component in package.Components) facts[$"{package.Title}, "
                + $"{component.Name}, version"] = component.Version ?? "not told";
            foreach (ComponentSurvey workstation in package.Workstations) facts[$"{package.Title}, "
                + $"workstation {workstation.Name}, version"] = workstation.Version ?? "not told";
            foreach (SettingFound setting in package.Settings) facts[$"{package.Title}, setting {setting.Name}"] = setting.Value
                ?? "(not set)";
            foreach (CustomFile file in package.CustomFiles) facts[$"{package.Title}, {file.Path}"] = file.State;
            foreach (CompanySurvey company in package.Companies)
            {
                facts[$"{company.Code}, data version"] = company.DataVersion ?? "not told";
                facts[$"{company.Code}, engine"] = company.Engine;
                facts[$"{company.Code}, records"] = company.Records.ToString(CultureInfo.InvariantCulture);
                facts[$"{company.Code}, documents"] = company.Documents.ToString(CultureInfo.InvariantCulture);
                foreach (SettingFound setting in company.Settings) facts[$"{company.Code}, setting {setting.Name}"] = setting.Value
                    ?? "(not set)";
                foreach (CustomFile file in company.CustomFiles) facts[$"{company.Code}, {file.Path}"] = file.State;
            }
        }
        foreach (ServiceSurvey service in survey.Services) facts[$"{service.Kind} {service.Name}"] = service.State;
        return facts;
    }
}
