// StoreStep.cs: shuts one way into a database on a server, by the server's own means; which they are, each engine says
// (IStoreServer.Doors).
using Transferra.Core.Records;

namespace Transferra.Core.Closing;

/// <summary>A door of a database.</summary>
internal sealed class StoreStep(IReadOnlyDictionary<string, string> facts) : ClosingStep
{
    internal const string KindName = "store";
    private const string FoundPrefix = "found.";

    /// <summary>The step for a door as it was found.</summary>
    /// <param name="address">The store whose door it is.</param>
    /// <param name="door">The door.</param>
    public static StoreStep Of(StoreAddress address, StoreDoor door)
    {
        ServerAddress server = address.Server!;
        var facts = new Dictionary<string, string>
        {
            ["engine"] = address.Engine,
            ["database"] = address.Path,
            ["host"] = server.Host,
            ["port"] = server.Port.ToString(System.Globalization.CultureInfo.InvariantCulture),
            ["user"] = server.User,
            ["kind"] = door.Kind,
            ["door"] = door.Name,
            ["when-shut"] = door.WhenShut,
            ["when-open"] = door.WhenOpen,
            ["ends-sessions"] = door.EndsSessions ? "yes" : "no",
        };
        if (server.PasswordFile is not null) facts["password-file"] = server.PasswordFile;
        if (server.PasswordVariable is not null) facts["password-variable"] = server.PasswordVariable;
        foreach ((string name, string value) in door.Found) facts[FoundPrefix + name] = value;
        return new StoreStep(facts);
    }

    private ServerAddress Server => new(facts["host"], int.Parse(facts["port"], System.Globalization.CultureInfo.InvariantCulture),
        facts["user"],
        facts.GetValueOrDefault("password-file"), facts.GetValueOrDefault("password-variable"));

    /// <summary>Whether it is a door of a store.</summary>
    public bool IsOf(StoreAddress address) => address.Server is { } server && facts["engine"] == address.Engine
        && facts["database"] == address.Path && Server.Host == server.Host && Server.Port == server.Port;

    /// <summary>The door, as it was found.</summary>
    public StoreDoor Door => new(facts["kind"], facts["door"], facts["when-shut"], facts["when-open"], facts["ends-sessions"] == "yes",
        facts.Where(fact => fact.Key.StartsWith(FoundPrefix, StringComparison.Ordinal))
            .ToDictionary(fact => fact.Key[FoundPrefix.Length..], fact => fact.Value));

    private IStoreServer At(ClosingTools tools) => tools.Stores.ServerOf(new StoreAddress(facts["engine"], facts["database"],
        Server: Server));

    /// <summary>Whether shutting it also ends the sessions of those who are in.</summary>
    public bool EndsSessions => facts["ends-sessions"] == "yes";

    /// <inheritdoc/>
    public override string Kind => KindName;
    /// <inheritdoc/>
    public override string Name => string.Create(System.Globalization.CultureInfo.InvariantCulture,
        $"{facts["engine"]} {facts["host"]}:{facts["port"]} {facts["kind"]} {facts["door"]}");
    /// <inheritdoc/>
    public override IReadOnlyDictionary<string, string> Facts => facts;
    /// <inheritdoc/>
    public override string WhenClosed => facts["when-shut"];
    /// <inheritdoc/>
    public override string WhenOpen => facts["when-open"];
    /// <inheritdoc/>
    public override void Close(ClosingTools tools) => At(tools).Shut(Door);
    /// <inheritdoc/>
    public override string? NotClosed(ClosingTools tools) => At(tools).IsShut(Door) ? null : $"{facts["door"]} lets people in";
    /// <inheritdoc/>
    public override void Reopen(ClosingTools tools) => At(tools).Open(Door);
    /// <inheritdoc/>
    public override string? NotOpen(ClosingTools tools) => At(tools).IsAsFound(Door) ? null : $"{facts["door"]} is not as it was found";
}
