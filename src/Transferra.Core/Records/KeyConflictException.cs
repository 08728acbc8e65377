// KeyConflictException.cs: records with one key, found when a store builds its keys at the end of loading.
namespace Transferra.Core.Records;

/// <summary>Raised when records with the same key were loaded into a store that builds its keys at the end.</summary>
/// <param name="table">The table.</param>
/// <param name="reason">The engine's words.</param>
public sealed class KeyConflictException(string table, string reason) : Exception($"{table}: {reason}");
