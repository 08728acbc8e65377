// RowFault.cs: one value of a batch that could not be delivered, and why.
namespace Transferra.Core.Records;

/// <summary>One value that a reader or an expression could not deliver.</summary>
/// <param name="Row">Zero-based row of the batch.</param>
/// <param name="Code">Why.</param>
/// <param name="Column">The old column, as far as one is to blame; "" otherwise.</param>
/// <param name="Value">The value as found, for the exceptions list; "" when there is none.</param>
/// <param name="Reason">What and why, lower case, one line, no full stop.</param>
public readonly record struct RowFault(int Row, FaultCode Code, string Column, string Value, string Reason);
