// CannotContinueException.cs: a store that was begun and cannot be continued.
using Transferra.Core.Machine;

namespace Transferra.Core.Records;

/// <summary>Raised when a begun store is not there, or cannot be brought back to its mark.</summary>
/// <param name="where">The store.</param>
/// <param name="why">Lower case, one line.</param>
/// <param name="cause">What the engine or the system said; null when nothing.</param>
public sealed class CannotContinueException(string where, string why, Exception? cause = null)
    : TransferraException($"{where} cannot be continued: {why}", "It has to be made anew. The old data is untouched.", cause);
