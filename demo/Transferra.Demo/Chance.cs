// Chance.cs: a generator of our own: the same numbers on every platform and in every version of the runtime.
// Source: Steele, Lea and Flood, "Fast splittable pseudorandom number generators" (SplitMix64), 2014.
namespace Transferra.Demo;

internal sealed class Chance(int seed)
{
    private ulong _state = (ulong)seed;

    /// <summary>A number from 0 to below <paramref name="below"/>.</summary>
    public int Next(int below)
    {
        ulong z = _state += 0x9E3779B97F4A7C15;
        z = (z ^ (z >> 30)) * 0xBF58476D1CE4E5B9;
        z = (z ^ (z >> 27)) * 0x94D049BB133111EB;
        return (int)((z ^ (z >> 31)) % (ulong)below);
    }

    /// <summary>One of a list.</summary>
    public T Pick<T>(T[] from) => from[Next(from.Length)];
}
