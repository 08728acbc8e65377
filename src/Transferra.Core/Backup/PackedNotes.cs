// PackedNotes.cs: what is known of the members of a set from having just packed it, for the proof that follows.
using Transferra.Core.Machine;

namespace Transferra.Core.Backup;

/// <summary>Notes about members, by their place in the manifest.</summary>
internal sealed class PackedNotes
{
    // 0 for none; content with that digest is compared in full, as one without.
    private readonly List<UInt128> _digests = [];
    private readonly List<bool> _isReused = [];

    /// <summary>How many files were taken from an earlier set.</summary>
    public int Reused { get; private set; }

    /// <summary>XXH128 of the content of each member as it was packed; null for what was taken from an earlier set and for what has no
    /// content.</summary>
    public IReadOnlyList<UInt128?> Digests => new MadeList<UInt128?>(_digests.Count, at => _digests[at] == 0 ? null : _digests[at]);

    /// <summary>Makes room.</summary>
    public void Expect(int members) => _digests.Capacity = _isReused.Capacity = members;

    /// <summary>Notes the next one.</summary>
    public void Add(UInt128? digest, bool isReused)
    {
        _digests.Add(digest ?? 0);
        _isReused.Add(isReused);
        if (isReused) Reused++;
    }

    /// <summary>Whether a member was taken from an earlier set.</summary>
    public bool IsReused(int member) => member < _isReused.Count && _isReused[member];
}
