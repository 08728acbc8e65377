// BackupPlan.cs: where backup sets go and how, as office.yaml says under backup. Format: docs/office.md.
using System.Globalization;
using Transferra.Core.Kits;
using Transferra.Core.Records;

namespace Transferra.Core.Office;

/// <summary>A folder on another machine, reached by SFTP.</summary>
/// <param name="Host">Name or address.</param>
/// <param name="Port">1 to 65535.</param>
/// <param name="User">Name there.</param>
/// <param name="Folder">Path there.</param>
/// <param name="HostKey">Fingerprint of the machine's key, as SHA256:..., by which it is known again.</param>
/// <param name="KeyFile">File with our private key; null when there is none.</param>
/// <param name="PasswordFile">File that only its owner may read, with the password, or with the passphrase of the key file, in its first
/// line; null when there is none.</param>
/// <param name="PasswordVariable">Environment variable that holds it; null when there is none.</param>
public sealed record SftpAddress(string Host, int Port, string User, string Folder, string? HostKey, string? KeyFile,
    string? PasswordFile, string? PasswordVariable)
{
    /// <summary>The place as a person reads it.</summary>
    public string Shown => string.Create(CultureInfo.InvariantCulture,
        $"sftp://{User}@{Host}{(Port == BackupPlan.SftpPort ? "" : $":{Port}")}/{Folder.Trim('/')}");
}

/// <summary>A place that sets go to: a folder of this machine, or one of another.</summary>
/// <param name="Folder">Full path; "" for a place elsewhere.</param>
/// <param name="Server">Where it is; null for a folder of this machine.</param>
public sealed record BackupPlace(string Folder, SftpAddress? Server = null)
{
    /// <summary>The place as a person reads it.</summary>
    public string Shown => Server?.Shown ?? Folder;
}

/// <summary>Where sets go and how.</summary>
/// <param name="Places">The places, in order.</param>
/// <param name="Wanted">How many proved sets an upgrade wants.</param>
/// <param name="LockedWith">Where the passphrase is kept that sets are locked with; null when they are not locked.</param>
/// <param name="Without">What is left out: names with * and ?, matched with a file's name, or with its path when they contain a
/// "/".</param>
public sealed record BackupPlan(IReadOnlyList<BackupPlace> Places, int Wanted, KeyPlace? LockedWith, IReadOnlyList<string> Without)
{
    /// <summary>Servers on which sets are restored for proof, by engine; where none is named, the company's own.</summary>
    public IReadOnlyList<StoreAddress> ProveOn { get; init; } = [];

    /// <summary>For how long the last proved set of each data version stays, also when there are newer ones.</summary>
    public TimeSpan KeepEachVersion { get; init; } = TimeSpan.FromDays(UsualDays);

    // A book year, and the time until its audit.
    private const int UsualDays = 400;

    internal const int SftpPort = 22;

    private const int HighestPort = 65_535;

    /// <summary>Sets in folders of this machine, all of them wanted.</summary>
    public static BackupPlan In(params IReadOnlyList<string> folders) => new([.. folders.Select(folder => new BackupPlace(folder))],
        folders.Count, null, []);

    /// <summary>The places that are folders of this machine.</summary>
    public IEnumerable<string> Folders => Places.Where(place => place.Server is null).Select(place => place.Folder);

    internal static BackupPlan Read(DescribedMap? backup, string folder, DescriptionErrors errors)
    {
        var places = new List<BackupPlace>();
        string[] without = [];
        KeyPlace? lockedWith = null;
        int? wanted = null;
        int keepDays = UsualDays;
        var proveOn = new List<StoreAddress>();
        if (backup is not null)
        {
            foreach ((PlacedText? text, DescribedMap? map) in backup.TextsOrMaps("to", "a place for backup sets"))
                if (text is not null) places.Add(new BackupPlace(Full(text.Value)));
                else if (ReadPlace(map!, Full, errors) is { } place) places.Add(place);
            foreach (IGrouping<string, BackupPlace> twice in places.GroupBy(place => place.Shown).Where(same => same.Count() > 1))
                backup.Report("to", $"the place {twice.Key} is named twice; there would be no second copy");
            if (backup.Map("locked-with", "where the passphrase is kept") is { } secret) lockedWith = ReadSecret(secret, Full, errors);
            without = [.. backup.Texts("without").Select(pattern => pattern.Value)];
            if (backup.Optional("wanted") is { } number)
            {
                if (int.TryParse(number.Value, NumberStyles.None, CultureInfo.InvariantCulture, out int sets) && sets >= 1
                    && sets <= Math.Max(1, places.Count)) wanted = sets;
                else number.Report(errors, $"\"{number}\" should be a number of sets, 1 to {Math.Max(1, places.Count)}, as there are so "
                    + "many places");
            }
            foreach (DescribedMap server in backup.Maps("prove-on", "a server on which sets are restored for proof"))
                if (OfficeLoader.ReadStoreAddress(server, folder, errors) is { } address)
                {
                    if (address.IsOnServer) proveOn.Add(address);
                    else server.Report("sets are restored for proof on a database server; for others nothing need be named");
                }
            if (backup.Optional("keep-each-version") is { } days)
            {
                if (days.Value.Split(' ') is [var count, "day" or "days"] && int.TryParse(count, NumberStyles.None,
                    CultureInfo.InvariantCulture, out int known)) keepDays = known;
                else days.Report(errors, $"\"{days}\" is not a time; write a whole number of days, as in 400 days");
            }
            backup.Done();
        }
        if (places.Count == 0) places.Add(new BackupPlace(Path.Combine(folder, "sets")));
        return new BackupPlan(places, wanted ?? places.Count, lockedWith, without)
        {
            ProveOn = proveOn,
            KeepEachVersion = TimeSpan.FromDays(keepDays)
        };

        string Full(string path) => Path.GetFullPath(Path.Combine(folder, path));
    }

    private static KeyPlace? ReadSecret(DescribedMap map, Func<string, string> full, DescriptionErrors errors)
    {
        PlacedText? file = map.Optional("file"), variable = map.Optional("variable");
        if (file is null == variable is null) map.Report("the passphrase is kept in one place: file or variable");
        if (map.Optional("passphrase") is { } itself)
            itself.Report(errors, "a passphrase does not belong in this file; keep it in a file that only you may read, "
                + "and name that with file");
        map.Done();
        return new KeyPlace(file is null ? null : full(file.Value), variable?.Value, null, null);
    }

    private static BackupPlace? ReadPlace(DescribedMap map, Func<string, string> full, DescriptionErrors errors)
    {
        PlacedText? host = map.Optional("sftp");
        PlacedText folder = map.Text("folder");
        if (host is null)
        {
            map.Done();
            return new BackupPlace(full(folder.Value));
        }
        PlacedText? port = map.Optional("port"), key = map.Optional("key-file"), file = map.Optional("password-file"), variable =
            map.Optional("password-variable"), hostKey = map.Optional("host-key");
        string user = map.Text("user").Value;
        int number = SftpPort;
        if (port is not null && (!int.TryParse(port.Value, NumberStyles.None, CultureInfo.InvariantCulture, out number)
            || number is < 1 or > HighestPort))
            port.Report(errors, $"\"{port}\" is not a port; a port is a whole number from 1 to {HighestPort}");
        if (file is not null && variable is not null) variable.Report(errors,
            "the password is kept in one place: password-file or password-variable");
        if (key is null && file is null
            && variable is null) map.Report("there is nothing to log in with; name a key-file, a password-file or a password-variable");
        if (hostKey is not null && !hostKey.Value.StartsWith("SHA256:", StringComparison.Ordinal))
            hostKey.Report(errors, "a host key is told by its fingerprint: SHA256: and 43 characters, as ssh-keygen -l prints it");
        if (map.Optional("password") is { } password)
            password.Report(errors, "a password does not belong in this file; keep it in a file that only you may read, and name that "
                + "with password-file");
        map.Done();
        return new BackupPlace("", new SftpAddress(host.Value, number, user, folder.Value, hostKey?.Value, key is null ? null
            : full(key.Value), file is null
            ? null : full(file.Value), variable?.Value));
    }
}
