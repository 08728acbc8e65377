// FirewallStep.cs: ports of this machine take no new connection from other machines, through a table of our own in nftables (nft(8));
// the machine itself still gets in, connections that exist go on. A table of our own can be taken away without touching anybody's rules.
// The table does not outlive a reboot; "close" then makes it anew.
using System.Globalization;
using Transferra.Core.Machine;

namespace Transferra.Core.Closing;

/// <summary>Blocked ports.</summary>
internal sealed class FirewallStep(IReadOnlyDictionary<string, string> facts) : ClosingStep
{
    internal const string KindName = "ports";
    private static readonly TimeSpan Limit = TimeSpan.FromSeconds(30);

    /// <param name="ports">1 to 65535, at least one.</param>
    /// <param name="closing">Id of the closing; names the table.</param>
    public static FirewallStep Of(IReadOnlyList<int> ports, string closing) => new(new Dictionary<string, string>
    {
        ["ports"] = List(ports.Select(port => port.ToString(CultureInfo.InvariantCulture))),
        ["table"] = "transferra_" + closing.Replace('-', '_'),
    });

    private string Ports => string.Join(", ", List(facts, "ports"));

    /// <inheritdoc/>
    public override string Kind => KindName;
    /// <inheritdoc/>
    public override string Name => Ports;
    /// <inheritdoc/>
    public override IReadOnlyDictionary<string, string> Facts => facts;
    /// <inheritdoc/>
    public override string WhenClosed => $"other machines cannot connect to port {Ports}";
    /// <inheritdoc/>
    public override string WhenOpen => $"other machines can connect to port {Ports} again";

    /// <inheritdoc/>
    public override void Close(ClosingTools tools)
    {
        if (IsThere(tools)) return;
        string table = facts["table"];
        // One transaction: all of it is there or nothing.
        CommandResult made = tools.Commands.Run(["nft",
            $"add table inet {table}; add chain inet {table} keep_out {{ type filter hook input priority -150; policy accept; }}; "
            + $"add rule inet {table} keep_out iifname \"lo\" accept; add rule inet {table} keep_out tcp dport {{ {Ports} }} ct state "
            + "new reject with tcp reset"], Limit);
        if (made.ExitCode != 0)
            throw new TransferraException($"port {Ports} cannot be blocked: {made.FirstLine}",
                "It needs root and nftables in the kernel; take block-ports out of closing in office.yaml to do without.");
    }

    private bool IsThere(ClosingTools tools) => tools.Commands.Run(["nft", "list", "table", "inet", facts["table"]], Limit).ExitCode == 0;

    /// <inheritdoc/>
    public override string? NotClosed(ClosingTools tools) => IsThere(tools) ? null : $"port {Ports} is not blocked";

    /// <inheritdoc/>
    public override void Reopen(ClosingTools tools)
    {
        if (IsThere(tools)) tools.Commands.Run(["nft", "delete", "table", "inet", facts["table"]], Limit);
    }

    /// <inheritdoc/>
    public override string? NotOpen(ClosingTools tools) => IsThere(tools) ? $"port {Ports} is still blocked" : null;
}
