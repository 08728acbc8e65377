// NameDigest.cs: a digest in place of a name, where very many names are to be known again: it takes a sixth of the memory.
// Holds: (1) nobody can choose two names with the same digest, as the seed is another one in each process.
using System.IO.Hashing;
using System.Security.Cryptography;

namespace Transferra.Core.Machine;

/// <summary>Digests of names, good within this process only.</summary>
internal static class NameDigest
{
    private static readonly long Seed = BitConverter.ToInt64(RandomNumberGenerator.GetBytes(sizeof(long)));

    /// <summary>XXH128 of the bytes of a name.</summary>
    public static UInt128 Of(ReadOnlySpan<byte> name) => XxHash128.HashToUInt128(name, Seed);
}
