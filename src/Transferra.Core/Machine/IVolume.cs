// IVolume.cs: the file operations that safety rests on, in one place, so that tests can make each of them fail or kill the program at it.
// Reading, and what engines write into a staged store, do not go through here: neither can harm what the office has.
// Holds: (1) Rename never overwrites; (2) Append and WriteNew return after the content is on the disk; (3) a new or changed name is on
//        the disk after FlushFolder.
namespace Transferra.Core.Machine;

/// <summary>File operations on the disk.</summary>
public interface IVolume
{
    /// <summary>Whether something of this name is there, be it a link that leads nowhere.</summary>
    bool Exists(string path);

    /// <summary>Creates a folder, with those above it; fine when it is there. What is created is for its owner alone.</summary>
    void CreateFolder(string path);

    /// <summary>Creates a folder that must not be there, for its owner alone; the folder above it must be.</summary>
    /// <exception cref="IOException">Something of that name is there.</exception>
    void MakeFolder(string path);

    /// <summary>Gives a file or folder another name on the same volume; fails when the new name is taken.</summary>
    void Rename(string from, string to);

    /// <summary>Removes a file, or a folder with everything in it; fine when it is not there. Of a link, the link.</summary>
    void Remove(string path);

    /// <summary>Removes a folder that is empty.</summary>
    /// <returns>False when it is not empty; then it is left.</returns>
    bool RemoveEmptyFolder(string path);

    /// <summary>Writes a new file for its owner alone and flushes it; fails when it is there.</summary>
    void WriteNew(string path, ReadOnlySpan<byte> content);

    /// <summary>Puts a file with this content in place of one that may be there: written aside, flushed, renamed, so that either the old
    /// or the new one is there.
    /// It is on the disk when this returns.</summary>
    void Replace(string path, ReadOnlySpan<byte> content);

    /// <summary>Writes a copy of another file in place of one, which need not be there: content, permissions, and owner as far as this user
    /// may. After any stop there is the old one or the copy.</summary>
    void ReplaceWith(string path, string source);

    /// <summary>Adds to the end of a file, which is made for its owner alone when it is not there, and flushes it.</summary>
    void Append(string path, ReadOnlySpan<byte> content);

    /// <summary>Proves that files can be made in a folder, by making one that has no name: also after a kill nothing of it is
    /// left.</summary>
    /// <exception cref="IOException">They cannot, and why.</exception>
    void TryWriting(string folder);

    /// <summary>How fast a folder's disk takes what is written, by writing a little to a file that has no name.</summary>
    /// <returns>Bytes a second.</returns>
    /// <exception cref="IOException">Nothing can be written there, or only under a name.</exception>
    double TryRate(string folder);

    /// <summary>Gives a file or folder these permissions; a link is refused.</summary>
    void SetMode(string path, UnixFileMode mode);

    /// <summary>Gives a file or folder to the owner and group of another, as far as this user may; root may, others may not.</summary>
    void SetOwner(string path, string like);

    /// <summary>Gives a file or folder to a user and a group, by their numbers.</summary>
    /// <exception cref="IOException">This user may not.</exception>
    void SetOwner(string path, uint user, uint group);

    /// <summary>Flushes a file's content.</summary>
    void FlushFile(string path);

    /// <summary>Flushes the names in a folder.</summary>
    void FlushFolder(string path);
}
