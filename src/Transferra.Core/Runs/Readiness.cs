// Readiness.cs: may we go? Every reason why a company may not, all at once, before anything is written.
using Transferra.Core.Kits;
using Transferra.Core.Office;
using Transferra.Core.Records;

namespace Transferra.Core.Runs;

/// <summary>One condition of an upgrade.</summary>
/// <param name="Company">The company.</param>
/// <param name="Name">What is asked.</param>
/// <param name="IsPassed">Whether it holds.</param>
/// <param name="What">What was found.</param>
/// <param name="Next">What to do when it does not hold.</param>
public sealed record Gate(string Company, string Name, bool IsPassed, string What, string Next = "");

/// <summary>Asks all the gates of a company.</summary>
public static class Readiness
{
    /// <summary>The gates, in the order of the work; empty when the company is at the wanted version already.</summary>
    /// <param name="context">What it works with.</param>
    /// <param name="company">The company.</param>
    /// <param name="from">Its present version, when that gate is passed.</param>
    public static IReadOnlyList<Gate> Of(RunContext context, Company company, out KitVersion? from)
    {
        var gates = new List<Gate>();
        CompanySurvey survey = Survey.Of(company, context.Stores);
        from = survey.DataVersion is null ? null : company.Kit.Version(survey.DataVersion);
        if (from is null)
        {
            gates.Add(new Gate(company.Code, "store and data version", false, survey.Problem, survey.Next));
            return gates;
        }
        if (from.Name == company.WantedVersion) return gates;
        gates.Add(new Gate(company.Code, "store and data version", true, $"data version {from.Name}, {survey.Engine}"));
        if (survey.GuessedForm.Length > 0)
            gates.Add(new Gate(company.Code, "form of the text", false, $"nothing says how the files are written; they look like: {survey.GuessedForm}",
                $"Look into them, then say it in {OfficeLoader.FileName}, beside delimited: separator, quote, encoding, header, decimal-mark, dates, null."));
        IReadOnlyList<Hop>? way = company.Kit.WayFrom(from.Name, company.WantedVersion);
        gates.Add(new Gate(company.Code, "way", way is not null, way is null ? $"the kit knows no way from version {from.Name} to {company.WantedVersion}" : "by " + string.Join(", ", way.Select(hop => $"{hop.From.Name} to {hop.To.Name}")),
            "Ask the vendor for the versions in between, and for a kit that knows them."));
        foreach (NewSetting setting in way?.SelectMany(hop => hop.Settings) ?? [])
        {
            bool answered = company.Answers.TryGetValue(setting.Name, out string? answer);
            string choices = setting.Choices.Count > 0 ? " (" + string.Join(", ", setting.Choices) + ")" : "";
            gates.Add(new Gate(company.Code, "new setting " + setting.Name, answered, answered ? $"answered: {answer}" : $"version {company.WantedVersion} asks: {setting.Question}{choices}",
                $"Answer it in {OfficeLoader.FileName}, under the company: answers: {{{setting.Name}: ...}}"));
        }
        // Whoever is in now is no obstacle: when the office is closed they are told, waited for, and named if they stay.
        gates.Add(new Gate(company.Code, "who is in", true, survey.OpenedBy.Count == 0 ? "nobody" : $"{string.Join(", ", survey.OpenedBy)}; told and waited for when the office is closed"));
        if (survey.Facts.TryGetValue(StoreIdentity.WaitingChanges, out string? waiting))
            gates.Add(new Gate(company.Code, "changes waiting", false, $"changes lie beside the store and not yet in it: {waiting}", "Close the old program on all workstations; it then writes them into the store."));
        foreach (string folder in company.DocumentFolders.Where(folder => !Directory.Exists(folder)))
            gates.Add(new Gate(company.Code, "documents", false, $"the folder {folder} is not there", $"Correct documents in {OfficeLoader.FileName}, or find out where the folder went."));
        if (company.MovesTo is { } newPlace && context.Places.Exists(newPlace))
            gates.Add(new Gate(company.Code, "place of the new store", false, $"{newPlace.Shown} is there already", "Find out what it is and move it away, or name another place under new-store."));
        long content = survey.StoreBytes + survey.DocumentBytes;
        foreach (string place in context.Office.BackupFolders)
            AddPlace(gates, context, company, "backup place", place, 2 * content);
        // A converted copy can be larger than the old store: keys and indexes that it had not, dates written out.
        foreach (StoreAddress onServer in ((StoreAddress[])[company.OldStore, company.NewStore]).Where(store => store.IsOnServer).DistinctBy(store => store.Shown))
        {
            // The old store is set aside by a rename, the new one is made and renamed: what would stop either is asked before the night begins.
            IReadOnlyList<string> hindrances = context.Stores.ServerOf(onServer).Hindrances(context.Places.Exists(onServer) ? onServer.Path : null);
            gates.AddRange(hindrances.Select(hindrance => new Gate(company.Code, "database server", false, $"{onServer.Shown}: {hindrance}", "See docs/servers.md for what each engine needs.")));
        }
        if (!company.NewStore.IsOnServer)
            AddPlace(gates, context, company, "place of the new store", company.NewStore.Folder, 2 * survey.StoreBytes * Math.Max(1, way?.Count ?? 1));
        return gates;
    }

    private static void AddPlace(List<Gate> gates, RunContext context, Company company, string name, string folder, long needed)
    {
        // A folder that is not there is made when it is needed; that it can be is tried where it would stand.
        string? existing = folder;
        while (existing is not null && !Directory.Exists(existing)) existing = Path.GetDirectoryName(existing);
        try
        {
            if (existing != folder && File.Exists(folder)) throw new IOException("a file of that name is in the way");
            context.Volume.TryWriting(existing!);
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException)
        {
            gates.Add(new Gate(company.Code, name, false, $"{folder} cannot be written: {error.Message}", $"Run as a user who may write there, or name another place in {OfficeLoader.FileName}."));
            return;
        }
        long free = new DriveInfo(existing!).AvailableFreeSpace, wanted = needed + context.Office.KeepFreeBytes;
        gates.Add(new Gate(company.Code, name, free >= wanted, $"{folder}: {Sizes.Of(free)} free, {Sizes.Of(needed)} needed" + (context.Office.KeepFreeBytes > 0 ? $" and {Sizes.Of(context.Office.KeepFreeBytes)} to be kept free" : ""),
            $"Make room, or name another place in {OfficeLoader.FileName}."));
    }
}

/// <summary>Sizes in words.</summary>
public static class Sizes
{
    /// <summary>A number of bytes in the largest unit that leaves at least one.</summary>
    public static string Of(long bytes)
    {
        string[] units = ["bytes", "KB", "MB", "GB", "TB"];
        double value = bytes;
        int unit = 0;
        while (value >= 1024 && unit < units.Length - 1)
        {
            value /= 1024;
            unit++;
        }
        return string.Create(System.Globalization.CultureInfo.InvariantCulture, $"{(unit == 0 ? value.ToString("0", System.Globalization.CultureInfo.InvariantCulture) : value.ToString("0.0", System.Globalization.CultureInfo.InvariantCulture))} {units[unit]}");
    }
}
