// ExceptionRow.cs: one old record that could not be converted, with its key and everything that is wrong with it.
using System.Collections.ObjectModel;

namespace Transferra.Core.Conversion;

/// <summary>One value, or the record as a whole, that could not be converted.</summary>
/// <param name="Column">The old column; "" when the record as a whole is meant.</param>
/// <param name="Into">The new table and column it was for; "" when none.</param>
/// <param name="Code">Why.</param>
/// <param name="Value">As found.</param>
/// <param name="Reason">Lower case, one line, no full stop.</param>
public sealed record ExceptionCause(string Column, string Into, Records.FaultCode Code, string Value, string Reason);

/// <summary>One old record that could not be converted, with everything that is wrong with it.</summary>
/// <param name="Table">The old table.</param>
/// <param name="Key">The record's key as a person reads it.</param>
/// <param name="Causes">At least one.</param>
public sealed record ExceptionRow(string Table, string Key, IReadOnlyList<ExceptionCause> Causes)
{
    /// <summary>The record for programs: the columns of its key, as the old version calls them, with their values in full; none of a
    /// private column, and nothing when the table has no key.</summary>
    public IReadOnlyDictionary<string, string?> KeyValues { get => field ?? ReadOnlyDictionary<string, string?>.Empty; init; }

    /// <summary>The record by its content, for programs: 32 hexadecimal digits, as docs/fingerprints.md defines a row digest. Not
    /// shown.</summary>
    [System.Text.Json.Serialization.JsonIgnore]
    public string Record { get; init; } = "";

    /// <summary>Whether the map gave a sound record and the new store's engine refused it.</summary>
    public bool IsRefused { get; init; }
}
