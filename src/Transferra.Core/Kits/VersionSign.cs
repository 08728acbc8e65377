// VersionSign.cs: what one place says of a version.
namespace Transferra.Core.Kits;

/// <summary>A version as one place tells it.</summary>
/// <param name="Where">The place, in words.</param>
/// <param name="Says">What stands there; "" when nothing does.</param>
/// <param name="Version">The version that means; null when none.</param>
public sealed record VersionSign(string Where, string Says, string? Version);
