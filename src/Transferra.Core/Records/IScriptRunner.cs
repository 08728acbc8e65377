// IScriptRunner.cs: runs the statements of a vendor's scripts in a store, by its engine, one by one.
namespace Transferra.Core.Records;

/// <summary>Runs statements on one connection, in the engine's own way. Used by one thread.</summary>
public interface IScriptRunner : IDisposable
{
    /// <summary>Runs one.</summary>
    /// <param name="statement">As the script has it, without what ends it.</param>
    /// <param name="mayFail">Whether the script goes on when the engine refuses it, so that it must leave no trace then, also within a
    /// transaction.</param>
    /// <returns>Records that it wrote or removed; 0 where the engine does not tell.</returns>
    /// <exception cref="StatementRefusedException">The engine refuses it.</exception>
    long Run(string statement, bool mayFail);

    /// <summary>Begins a transaction.</summary>
    void Begin();

    /// <summary>Makes it final.</summary>
    /// <exception cref="StatementRefusedException">The engine refuses that.</exception>
    void Commit();

    /// <summary>Has all that was done on the disk; what the scripts made is the owner's who has the rest of the store.</summary>
    /// <exception cref="StatementRefusedException">The engine refuses that.</exception>
    void Complete();
}

/// <summary>An engine refuses a statement.</summary>
/// <param name="number">The engine's number or code of the error.</param>
/// <param name="message">Its words, one line.</param>
/// <param name="error">What the driver raised.</param>
public sealed class StatementRefusedException(string number, string message, Exception error) : Exception(message, error)
{
    /// <summary>The engine's number or code of the error, such as 42P07 or 1050.</summary>
    public string Number => number;
}
