// InWords.cs: enumerations as words in JSON: "left-out", not 3.
using System.Text.Json;
using System.Text.Json.Serialization;

namespace Transferra.Core.Machine;

/// <summary>Writes an enumeration as its names in kebab case, and reads them, or its numbers, back.</summary>
/// <typeparam name="T">The enumeration.</typeparam>
public sealed class InWords<T>() : JsonStringEnumConverter<T>(JsonNamingPolicy.KebabCaseLower)
    where T : struct, Enum;
