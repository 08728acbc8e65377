// HtmlRecoverySheet.cs: the page for the safe: where the backup sets are, and how to get at them when everything else is gone. It holds
// no secret; a locked office's passphrase is written on the paper by hand.
using System.Globalization;
using System.Xml.Linq;
using Transferra.Core.Backup;
using static Transferra.Reports.HtmlPage;

namespace Transferra.Reports;

/// <summary>A place as the sheet tells of it.</summary>
/// <param name="Shown">What it is called.</param>
/// <param name="On">The disk or machine it is on.</param>
/// <param name="HostKey">By which the other machine is known; "" for folders.</param>
public sealed record RecoveryPlace(string Shown, string On, string HostKey);

/// <summary>Writes recovery sheets.</summary>
public static class HtmlRecoverySheet
{
    /// <summary>The page.</summary>
    /// <param name="office">The office's name.</param>
    /// <param name="places">Where sets are kept.</param>
    /// <param name="newest">The newest set of each company in each place.</param>
    /// <param name="isLocked">Whether new sets are locked.</param>
    /// <param name="officeKey">Fingerprint of the key that the office's sign-offs are signed with.</param>
    /// <param name="tool">Version of this program.</param>
    /// <param name="at">When it is written.</param>
    public static string Of(string office, IReadOnlyList<RecoveryPlace> places, IReadOnlyList<ListedSet> newest, bool isLocked,
        string officeKey, string tool, DateTimeOffset at)
    {
        string ending = isLocked ? SetPlaces.LockedSuffix : SetPlaces.Suffix;
        var content = new List<object>
        {
            new XElement("h1", "Recovery sheet"),
            new XElement("p", new XAttribute("class", "soft"),
                string.Create(CultureInfo.InvariantCulture,
                    $"{office} \u00B7 written {at.UtcDateTime:yyyy-MM-dd HH:mm} UTC with Transferra {tool}")),
            new XElement("p", "Keep this page on paper, in the safe. It tells where the backup sets of this office are and how to get "
                + "the books out of them when the machines, their disks and whoever looks after them are not available."),
            new XElement("h2", "Where the sets are"),
            Table(["Place", "On", "Known by"], places.Select(place => (object[])[Mono(place.Shown), place.On, place.HostKey.Length > 0
                ? Mono(place.HostKey) : ""])),
            new XElement("h3", "The newest set of each company"),
            Table(["Company", "Package", "Data version", "Made (UTC)", "Locked", "File"], newest.OrderBy(set => set.Label.Company,
                StringComparer.Ordinal)
                .ThenBy(set => set.Path, StringComparer.Ordinal).Select(set => (object[])
                [$"{set.Label.Company} {set.Label.CompanyName}", set.Label.Package, set.Label.DataVersion,
                    set.Label.MadeAt.UtcDateTime.ToString("yyyy-MM-dd HH:mm", CultureInfo.InvariantCulture), set.IsLocked ? "yes" : "no",
                        Mono(set.Path)])),
            new XElement("h2", "The passphrase"),
        };
        if (isLocked)
        {
            content.Add(new XElement("p", "New sets are locked, as are those that say so above. Without the passphrase nobody gets "
                + "anything out of them, and nobody can be asked for another. Write it here by hand, letter by letter; it is in no file "
                + "of this program."));
            content.Add(new XElement("div", new XAttribute("class", "sign"), new XElement("div", "passphrase"),
                new XElement("div", "written by, on"),
                new XElement("div", "passphrase, in block letters"), new XElement("div", "read back by")));
        }
        else content.Add(new XElement("p", "The sets are not locked: whoever has one can read it. No passphrase is needed."));
        content.Add(new XElement("h2", "The office's key"));
        content.Add(new XElement("p", "Sign-offs of this office are signed with the key ", Mono(officeKey), ". One that is signed with "
            + "another key is not this office's. To see to it: ", Mono("transferra signoff --verify"), ", or by hand with ",
            Mono("sha256sum"), " and ", Mono("openssl"), "."));
        AddWithProgram(content, ending, isLocked);
        AddWithoutProgram(content, isLocked);
        content.Add(new XElement("p", new XAttribute("class", "soft"),
            "Try it once a year, on a machine that is not one of the office's, and write the day on this page. Print a new page when the "
                + "places or the passphrase change; keep the old one with the sets of its time."));
        return Page($"Recovery sheet \u00B7 {office}", content);
    }

    private static void AddWithProgram(List<object> content, string ending, bool isLocked)
    {
        content.Add(new XElement("h2", "With this program"));
        content.Add(new XElement("ol",
            new XElement("li", "Put Transferra on any Linux machine, and copy one set of each company to it. Nothing else is needed: no "
                + "office.yaml, no database server, no network."),
            new XElement("li", "See what is in a set: ", Mono($"transferra restore --set FILE{ending} --show")),
            new XElement("li", "Unpack it, every byte and every record compared: ",
                Mono($"transferra restore --set FILE{ending} --to NEWFOLDER"), isLocked
                ? " The passphrase is asked for, or taken from the environment variable TRANSFERRA_PASSPHRASE." : ""),
            new XElement("li", "The books are in NEWFOLDER/store, the documents in NEWFOLDER/documents, the program's settings in "
                + "NEWFOLDER/settings. A store that was on a database server is there as one text file (CSV) for each table, with "
                + "store.json to make it again: in the office's folder, ",
                Mono("transferra restore CODE --set FILE --database NEWNAME"), ".")));
    }

    private static void AddWithoutProgram(List<object> content, bool isLocked)
    {
        content.Add(new XElement("h2", "Without this program"));
        var steps = new XElement("ol");
        if (isLocked)
        {
            steps.Add(new XElement("li", "The first 4,096 bytes of a set are its header: at byte 20 three 32-bit numbers, lowest byte "
                + "first (Argon2id: KiB of memory, passes, lanes), at byte 32 sixteen bytes of salt."));
            steps.Add(new XElement("li", "Argon2id (RFC 9106) of the passphrase with these gives 32 bytes; HKDF-Expand with SHA-256 (RFC "
                + "5869) of them with the text ", Mono("transferra lock chunks"), " gives the 32-byte key."));
            steps.Add(new XElement("li", "Behind the header stand chunks of 65,552 bytes, the last one shorter: AES-256-GCM, the last 16 "
                + "bytes the tag; the nonce is the chunk's number from 0 in 8 bytes, lowest first, then 1 for the last chunk and 0 for "
                + "others, then three zeros; bytes 4,064 to 4,095 of the header are the additional data. "
                + "The chunks in order are a tar file."));
        }
        steps.Add(new XElement("li", "Unpack the tar: ", Mono("tar -xpf FILE.tar")));
        steps.Add(new XElement("li", "Unpack its members: ", Mono("find . -name '*.zst' -exec zstd -d --rm {} +")));
        steps.Add(new XElement("li", Mono("manifest.json"), " tells of every file its size and SHA-256."));
        content.Add(steps);
    }

    private static XElement Mono(string text) => new("span", new XAttribute("class", "mono"), text);
}
