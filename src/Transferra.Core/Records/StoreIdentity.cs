// StoreIdentity.cs: what a store says of itself: engine, version, size, header fields.
namespace Transferra.Core.Records;

/// <summary>What an engine says of a store.</summary>
/// <param name="Engine">The engine's name, such as "SQLite".</param>
/// <param name="EngineVersion">Of the engine that reads it.</param>
/// <param name="Bytes">Size on disk.</param>
/// <param name="HeaderFields">Facts from the file header, by name.</param>
public sealed record StoreIdentity(string Engine, string EngineVersion, long Bytes, IReadOnlyDictionary<string, string> HeaderFields)
{
    /// <summary>The header field that tells what was guessed of a store's form; there only when something was.</summary>
    public const string Guess = "guessed_form";

    /// <summary>The header field that tells of changes that lie beside the store's file and not yet in it; there only when there are
    /// some.</summary>
    public const string WaitingChanges = "waiting_changes";
}
