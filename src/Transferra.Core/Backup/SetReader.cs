// SetReader.cs: reads a set from its first to its last byte, comparing with the manifest; unpacks it, or some of it, when a folder is given.
// Holds: (1) any change of any byte is a fault, located to its member where one is concerned; (2) members that the manifest does not
//        know, and members it knows that are not there, are faults; (3) no member name leads out of the folder.
using System.Formats.Tar;
using System.Globalization;
using System.Security.Cryptography;
using System.Text.Json;
using ZstdSharp;

namespace Transferra.Core.Backup;

internal sealed class SetReader(string path, string? folder, Func<string, bool>? isWanted = null)
{
    private readonly List<SetFault> _faults = [];

    public IReadOnlyList<SetFault> Run()
    {
        try
        {
            using FileStream file = new(path, FileMode.Open, FileAccess.Read, FileShare.Read, 1 << 20, FileOptions.SequentialScan);
            Read(file);
        }
        catch (Exception error) when (error is InvalidDataException or EndOfStreamException or FormatException or ArgumentException or OverflowException)
        {
            _faults.Add(new SetFault("damaged", "", $"the tar structure cannot be read on: {error.Message}"));
        }
        return _faults;
    }

    private void Read(FileStream file)
    {
        long sealedBytes = Math.Max(0, file.Length - SetSeal.Bytes);
        using var all = new HashingStream(file, sealedBytes);
        using var tar = new TarReader(all);
        TarEntry? entry = tar.GetNextEntry();
        if (entry?.Name != SetManifest.FirstMember || entry.DataStream is null)
        {
            _faults.Add(new SetFault("manifest", SetManifest.FirstMember, "the first member is not the manifest"));
            return;
        }
        using var buffer = new MemoryStream();
        entry.DataStream.CopyTo(buffer);
        byte[] json = buffer.ToArray();
        SetManifest? manifest;
        try { manifest = JsonSerializer.Deserialize<SetManifest>(json, SetManifest.Json); }
        catch (JsonException error)
        {
            _faults.Add(new SetFault("manifest", SetManifest.FirstMember, $"the manifest cannot be read: {error.Message}"));
            return;
        }
        if (manifest?.Format != SetManifest.CurrentFormat)
        {
            _faults.Add(new SetFault("manifest", SetManifest.FirstMember, $"the set is of the form {manifest?.Format ?? "(none)"}; this program reads {SetManifest.CurrentFormat}"));
            return;
        }
        int next = 0;
        while ((entry = tar.GetNextEntry()) is not null)
        {
            // What the seal says is judged below, with every byte of it.
            if (entry.Name == SetSeal.Name && next == manifest.Members.Count) break;
            SetMember? member = next < manifest.Members.Count ? manifest.Members[next] : null;
            if (member is null || entry.Name != member.Name + ".zst")
            {
                _faults.Add(new SetFault("extra", entry.Name, "the manifest does not tell of this member here"));
                continue;
            }
            next++;
            ReadMember(member, entry.DataStream ?? Stream.Null);
        }
        foreach (SetMember missing in manifest.Members.Skip(next)) _faults.Add(new SetFault("missing", missing.Name, "the member is not in the set"));
        // The digest covers what stands before the seal, also what the tar reader passed over.
        byte[] rest = new byte[1 << 16];
        while (all.Read(rest) > 0) { }
        byte[] end = new byte[file.Length - sealedBytes];
        file.Seek(sealedBytes, SeekOrigin.Begin);
        file.ReadExactly(end);
        if (SetSeal.Judge(end, all.Digest(), manifest.MadeAt) is { } wrong && _faults.Count == 0) _faults.Add(new SetFault("seal", SetSeal.Name, wrong));
    }

    private void ReadMember(SetMember member, Stream content)
    {
        using FileStream? target = folder is null || isWanted?.Invoke(member.Name) == false ? null : CreateTarget(member);
        using var packed = new HashingStream(content);
        using var hash = IncrementalHash.CreateHash(HashAlgorithmName.SHA256);
        long bytes = 0;
        byte[] buffer = new byte[1 << 18];
        try
        {
            using (var zstd = new DecompressionStream(packed, leaveOpen: true))
            {
                for (int read; (read = zstd.Read(buffer)) > 0; bytes += read)
                {
                    hash.AppendData(buffer, 0, read);
                    target?.Write(buffer, 0, read);
                }
            }
            while (packed.Read(buffer) > 0) { }
        }
        catch (Exception error) when (error is ZstdException or EndOfStreamException or InvalidDataException)
        {
            _faults.Add(new SetFault("damaged", member.Name, $"the member cannot be unpacked: {error.Message}"));
            return;
        }
        if (packed.Digest() != member.PackedSha256 || packed.Count != member.PackedBytes)
            _faults.Add(new SetFault("damaged", member.Name, "the packed bytes are not those that were written"));
        else if (bytes != member.Bytes || Convert.ToHexStringLower(hash.GetHashAndReset()) != member.Sha256)
            _faults.Add(new SetFault("damaged", member.Name, "the unpacked content is not what was backed up"));
        if (target is null) return;
        target.Flush(flushToDisk: true);
        target.Dispose();
        File.SetLastWriteTimeUtc(target.Name, member.Modified.UtcDateTime);
        if (!OperatingSystem.IsWindows()) File.SetUnixFileMode(target.Name, (UnixFileMode)Convert.ToInt32(member.Mode, 8));
    }

    private FileStream CreateTarget(SetMember member)
    {
        string root = Path.GetFullPath(folder!) + Path.DirectorySeparatorChar, target = Path.GetFullPath(Path.Combine(root, member.Name));
        if (!target.StartsWith(root, StringComparison.Ordinal))
            throw new InvalidDataException(string.Create(CultureInfo.InvariantCulture, $"the member name {member.Name} leads out of the folder"));
        Directory.CreateDirectory(Path.GetDirectoryName(target)!);
        return new FileStream(target, FileMode.CreateNew, FileAccess.Write);
    }
}
