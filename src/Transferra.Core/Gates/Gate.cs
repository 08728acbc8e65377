// Gate.cs: one condition of an upgrade, and how it stands.
using System.Text.Json.Serialization;
using Transferra.Core.Machine;

namespace Transferra.Core.Gates;

/// <summary>How a gate stands.</summary>
[JsonConverter(typeof(InWords<GateState>))]
public enum GateState
{
    /// <summary>It holds.</summary>
    Passed,
    /// <summary>It does not, and the upgrade may not start.</summary>
    Blocked,
    /// <summary>Only a person can say; until then the upgrade may not start.</summary>
    NeedsWord,
    /// <summary>The upgrade may start, and this company will stop in it.</summary>
    WillStop,
    /// <summary>Nobody has looked yet; the upgrade does, and may start.</summary>
    NotChecked,
}

/// <summary>One condition.</summary>
/// <param name="Company">The company; "" when it is about a package or the office.</param>
/// <param name="Name">What is asked.</param>
/// <param name="State">How it stands.</param>
/// <param name="What">What was found, or is asked.</param>
/// <param name="Next">What to do when it does not hold.</param>
public sealed record Gate(string Company, string Name, GateState State, string What, string Next = "")
{
    /// <summary>Whether a name as typed means a full one: the whole of it, or what stands after a slash.</summary>
    public static bool IsMeant(string full, string typed) => full == typed || full.EndsWith("/" + typed, StringComparison.Ordinal);

    /// <summary>Whether it holds, or at least keeps nobody else from starting.</summary>
    public bool IsPassed => State is GateState.Passed or GateState.WillStop or GateState.NotChecked;

    /// <summary>The package it is about; "" for the office.</summary>
    public string Package { get; init; } = "";

    /// <summary>By what name a person confirms it; "" when nobody's word is asked.</summary>
    public string Confirm { get; init; } = "";

    /// <summary>A gate that is passed or blocked.</summary>
    public static Gate If(bool holds, string company, string name, string what, string next = "") =>
        new(company, name, holds ? GateState.Passed : GateState.Blocked, what, next);
}
