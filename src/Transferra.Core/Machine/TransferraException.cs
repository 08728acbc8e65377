// TransferraException.cs: what ends a command or stops a company, worded for the administrator: what happened, and what to do next.
namespace Transferra.Core.Machine;

/// <summary>Raised when the work cannot go on: wrong description, lost disk, foreign store. Worded for the administrator.</summary>
public class TransferraException : Exception
{
    /// <summary>An error with its next step.</summary>
    /// <param name="what">What happened and where, one line.</param>
    /// <param name="next">What the administrator can do; full sentences.</param>
    /// <param name="inner">The cause, for the diagnostic trace.</param>
    public TransferraException(string what, string next = "", Exception? inner = null) : base(what, inner) => Next = next;

    /// <summary>What the administrator can do; "" when nothing is known.</summary>
    public string Next { get; }
}
