// FaultyVolume.cs: a disk on which the n-th operation goes wrong: once, or for good, before or after it was done.
using Transferra.Core.Machine;

namespace Transferra.Tests;

/// <summary>Stands for the machine going off: nothing after it reaches the disk.</summary>
internal sealed class PowerCutException : Exception;

internal sealed class FaultyVolume(IVolume inner, int failAt, bool afterwards = false, bool forGood = false,
    Func<Exception>? fault = null) : IVolume
{
    private readonly Func<Exception> _fault = fault ?? (() => new IOException("injected fault"));

    public int Operations { get; private set; }

    public int FaultsFired { get; private set; }

    /// <summary>Name of the only file whose replacements are counted; null to count every operation.</summary>
    public string? Only { get; init; }

    private void Count(Action action, string? replaced = null)
    {
        if (Only is not null && Path.GetFileName(replaced) != Only)
        {
            action();
            return;
        }
        Operations++;
        bool fails = Operations == failAt || (forGood && Operations > failAt);
        if (fails && !(afterwards && Operations == failAt)) throw Fire();
        action();
        if (fails) throw Fire();
    }

    private Exception Fire()
    {
        FaultsFired++;
        return _fault();
    }

    public bool Exists(string path) => inner.Exists(path);
    public void CreateFolder(string path) => Count(() => inner.CreateFolder(path));
    public void MakeFolder(string path) => Count(() => inner.MakeFolder(path));
    public void Rename(string from, string to) => Count(() => inner.Rename(from, to));
    public void Remove(string path) => Count(() => inner.Remove(path));
    public double TryRate(string folder) => inner.TryRate(folder);
    public void TryWriting(string folder) => Count(() => inner.TryWriting(folder));
    public void SetOwner(string path, uint user, uint group) => Count(() => inner.SetOwner(path, user, group));
    public void SetOwner(string path, string like) => Count(() => inner.SetOwner(path, like));
    public void SetMode(string path, UnixFileMode mode) => Count(() => inner.SetMode(path, mode));
    public void FlushFile(string path) => Count(() => inner.FlushFile(path));
    public void FlushFolder(string path) => Count(() => inner.FlushFolder(path));

    public bool RemoveEmptyFolder(string path)
    {
        bool removed = false;
        Count(() => removed = inner.RemoveEmptyFolder(path));
        return removed;
    }

    public void ReplaceWith(string path, string source) => Count(() => inner.ReplaceWith(path, source), path);

    public void Replace(string path, ReadOnlySpan<byte> content)
    {
        byte[] copy = content.ToArray();
        Count(() => inner.Replace(path, copy), path);
    }

    public void WriteNew(string path, ReadOnlySpan<byte> content)
    {
        byte[] copy = content.ToArray();
        Count(() => inner.WriteNew(path, copy));
    }

    public void Append(string path, ReadOnlySpan<byte> content)
    {
        byte[] copy = content.ToArray();
        Count(() => inner.Append(path, copy));
    }
}
