// MadeList.cs: a list whose entries are made when they are asked for, and not kept.
using System.Collections;

namespace Transferra.Core.Machine;

/// <summary>A list that is made as it is read.</summary>
/// <typeparam name="T">Its entries.</typeparam>
/// <param name="count">How many.</param>
/// <param name="make">Makes one, by its place.</param>
internal sealed class MadeList<T>(int count, Func<int, T> make) : IReadOnlyList<T>
{
    /// <inheritdoc/>
    public T this[int index] => make(index);

    /// <inheritdoc/>
    public int Count => count;

    /// <inheritdoc/>
    public IEnumerator<T> GetEnumerator() => Enumerable.Range(0, count).Select(make).GetEnumerator();

    /// <inheritdoc/>
    IEnumerator IEnumerable.GetEnumerator() => GetEnumerator();
}
