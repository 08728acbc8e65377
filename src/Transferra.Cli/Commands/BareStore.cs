// BareStore.cs: a store named on the command line with --store, looked after without an office.yaml and without a kit.
using System.CommandLine;
using Transferra.Core.Machine;
using Transferra.Core.Records;
using Transferra.Core.Runs;

namespace Transferra.Cli.Commands;

/// <summary>A store and the session that works on it.</summary>
internal sealed class BareStore : IDisposable
{
    private readonly NamedPlace _place;

    private BareStore(NamedPlace place, BareOffice office, Session session) => (_place, Office, Session) = (place, office, session);

    /// <summary>The office of this store alone.</summary>
    public BareOffice Office { get; }

    /// <summary>The same call, for that office.</summary>
    public Session Session { get; }

    /// <summary>Where it is, as a person reads it.</summary>
    public string Shown => _place.Shown;

    /// <summary>Finds the store that was named.</summary>
    /// <param name="session">The call.</param>
    /// <param name="commands">The options.</param>
    /// <param name="parsed">What was typed.</param>
    /// <param name="folder">Where sets go, full path; "" when nothing is to be written.</param>
    /// <param name="documents">Folders that belong to it.</param>
    /// <returns>Null when none was named.</returns>
    public static BareStore? Of(Session session, CommandSet commands, ParseResult parsed, string folder = "",
        IReadOnlyList<string>? documents = null)
    {
        if (parsed.GetValue(commands.Store) is not { } named)
            return parsed.GetValue(commands.Encoding) is null ? null
                : throw new TransferraException("--encoding belongs to --store", "For a company the kit says the code page of its text.");
        if (session.Codes.Count > 0)
            throw new TransferraException("a company and --store are two things", "Name either the company or the store.");
        string? encoding = KnownEncoding(parsed.GetValue(commands.Encoding));
        NamedPlace place = NamedPlace.Of(session, named);
        try
        {
            BareSide side = place.Side with { TextEncoding = encoding ?? place.Side.TextEncoding };
            BareOffice office = BareOffice.Of(session.Stores, side, side.Address.Name, folder, documents ?? [], session.Cancel);
            return new BareStore(place, office, session with
            {
                Given = office.Office,
                OfficeFolder = folder.Length > 0 ? folder
                : session.OfficeFolder
            });
        }
        catch
        {
            place.Dispose();
            throw;
        }
    }

    /// <summary>A code page by its name.</summary>
    /// <exception cref="TransferraException">Nobody knows it.</exception>
    public static string? KnownEncoding(string? name) => name is null || TextEncodings.IsKnown(name) ? name
        : throw new TransferraException($"\"{name}\" is not a known code page", $"The names are {string.Join(", ", TextEncodings.Names)}.");

    /// <inheritdoc/>
    public void Dispose() => _place.Dispose();
}
