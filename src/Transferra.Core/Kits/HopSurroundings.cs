// HopSurroundings.cs: what has to be the case around a hop in which others convert: where their program finds the copy, under which
// account it comes to it, and which services are off meanwhile.
namespace Transferra.Core.Kits;

/// <summary>What has to be the case around a hop.</summary>
/// <param name="IsAtOwnPlace">Whether the copy stands where the company's store lives, as the converter works nowhere else; the original is
/// set aside meanwhile.</param>
/// <param name="ServicesOff">Services, as office.yaml names them, that must be off meanwhile, also those that stay up while the office is
/// closed.</param>
/// <param name="Account">The account under which the converter comes to the copy, at the store's server or as a user of this machine; it
/// alone is let in meanwhile. Null when it comes as we do.</param>
public sealed record HopSurroundings(bool IsAtOwnPlace, IReadOnlyList<string> ServicesOff, string? Account)
{
    /// <summary>Nothing.</summary>
    public static HopSurroundings None { get; } = new(false, [], null);

    /// <summary>Whether it can be gone only in the night, in a closed office.</summary>
    public bool IsForTheNight => IsAtOwnPlace || ServicesOff.Count > 0 || AroundExport?.IsForTheNight == true;

    /// <summary>The same for the time in which the old program writes the data out; null where it does not.</summary>
    public HopSurroundings? AroundExport { get; init; }

    internal static HopSurroundings Read(DescribedMap hop, IMeans? means)
    {
        string[] off = [.. hop.Texts("services-off").Select(text => text.Value)];
        bool isOwn = means?.NeedsOwnPlace == true;
        if (hop.Optional("place") is { } place)
        {
            if (place.Value is not ("copy" or "own")) place.Report(hop.Errors,
                $"\"{place}\" is not a place; it can be: copy (beside the store), own (where the store lives, the original set aside)");
            else if (means is { MayHaveOwnPlace: false }) place.Report(hop.Errors, $"{means.Name} need no place of their own");
            else if (isOwn && place.Value == "copy") place.Report(hop.Errors, $"a {means!.Name} works on its own place");
            isOwn |= place.Value == "own";
        }
        PlacedText? account = hop.Optional("account");
        if (account is not null && means is { GoesByMaps: true }) account.Report(hop.Errors,
            $"{means.Name} need no account of their own: we convert, as the store's user in office.yaml");
        return new HopSurroundings(isOwn, off, account?.Value) { AroundExport = means?.AroundExport };
    }
}
