// MatchSoFar.cs: what a match of one hop has come to, kept so that one that was interrupted goes on where it was.
namespace Transferra.Core.Matching;

/// <summary>What was compared of a hop and is the same. Used by several threads, one at a time.</summary>
/// <param name="known">What an earlier match of the same two stores came to; empty when there was none.</param>
/// <param name="settledAt">When the stores had last been written to, and a little more: what is read from then on cannot change without
/// being seen.</param>
/// <param name="save">Keeps all parts known so far.</param>
/// <param name="between">Time between two savings, and before the first.</param>
internal sealed class MatchSoFar(IReadOnlyList<PartSoFar> known, DateTimeOffset settledAt, Action<IReadOnlyList<PartSoFar>> save,
    TimeSpan between)
{
    private readonly List<PartSoFar> _parts = [.. known];
    private int _saved = known.Count;
    private DateTimeOffset _savedAt = DateTimeOffset.UtcNow;

    /// <summary>What an earlier match came to.</summary>
    public IReadOnlyList<PartSoFar> Known => known;

    /// <summary>A part was compared, and is the same.</summary>
    /// <param name="part">What it came to.</param>
    /// <param name="began">When the first of its tables began to be read.</param>
    public void Add(PartSoFar part, DateTimeOffset began)
    {
        if (began < settledAt) return;
        _parts.Add(part);
        SaveWhenDue();
    }

    /// <summary>The hop was read whole.</summary>
    public void End()
    {
        if (_parts.Count > _saved) SaveWhenDue();
    }

    private void SaveWhenDue()
    {
        if (DateTimeOffset.UtcNow - _savedAt < between) return;
        save(_parts);
        (_saved, _savedAt) = (_parts.Count, DateTimeOffset.UtcNow);
    }
}
