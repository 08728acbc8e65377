// SftpPlace.cs: backup sets in a folder of another machine, over SFTP (draft-ietf-secsh-filexfer-02, as OpenSSH speaks it).
// Holds: (1) nothing is sent before the other machine has shown the key that office.yaml knows it by; (2) a set gets its name there only
// after all of it was
//        taken; (3) what goes wrong there comes up as an IOException in words, so that the other places go on.
using System.Globalization;
using System.Net.Sockets;
using Renci.SshNet;
using Renci.SshNet.Common;
using Renci.SshNet.Sftp;
using Transferra.Core.Backup;
using Transferra.Core.Machine;
using Transferra.Core.Office;

namespace Transferra.Stores.Sftp;

/// <summary>A folder on another machine. The connection is made when it is first needed, and again when it was lost.</summary>
/// <param name="address">Where.</param>
public sealed class SftpPlace(SftpAddress address) : ISetPlace, IDisposable
{
    private static readonly TimeSpan ConnectTime = TimeSpan.FromSeconds(20), AnswerTime = TimeSpan.FromMinutes(2);
    private readonly Lock _lock = new();
    private SftpClient? _client;

    private string Folder { get; } = "/" + address.Folder.Trim('/');

    /// <inheritdoc/>
    public string Name => address.Shown;

    /// <inheritdoc/>
    public string? LocalFolder => null;

    /// <inheritdoc/>
    public bool IsThere() => Do("look for the folder", client => client.Exists(Folder));

    /// <inheritdoc/>
    public byte[]? ReadSmall(string name, int mostBytes) => Do("read " + name, client =>
    {
        if (!client.Exists(PathOf(name)) || client.GetAttributes(PathOf(name)) is not { IsRegularFile: true } found
            || found.Size > mostBytes) return null;
        return client.ReadAllBytes(PathOf(name));
    });

    /// <inheritdoc/>
    public void WriteSmall(string name, byte[] content) => Do("write " + name, client =>
    {
        using SftpFileStream file = client.Open(PathOf(name), FileMode.CreateNew, FileAccess.Write);
        file.Write(content);
        return true;
    });

    /// <inheritdoc/>
    public void Prepare() => Do("make the folder", client =>
    {
        for (int slash = 1; slash > 0;)
        {
            slash = Folder.IndexOf('/', slash + 1);
            string part = slash < 0 ? Folder : Folder[..slash];
            if (!client.Exists(part)) client.CreateDirectory(part);
        }
        return true;
    });

    /// <inheritdoc/>
    public IReadOnlyList<PlacedFile> List() => Do("list the folder", client =>
    {
        if (!client.Exists(Folder)) return (IReadOnlyList<PlacedFile>)[];
        return [.. client.ListDirectory(Folder).Where(file => file.Name is not ("." or "..")).OrderBy(file => file.Name,
            StringComparer.Ordinal)
            .Select(file => new PlacedFile(file.Name, file.IsDirectory ? 0 : file.Length))];
    });

    // statvfs@openssh.com, an extension of OpenSSH (its file PROTOCOL, section 4.4); servers without it tell nothing.
    /// <inheritdoc/>
    public long? FreeBytes() => Do("ask for the room", client =>
    {
        string folder = Folder;
        while (folder.Length > 1 && !client.Exists(folder)) folder = folder[..Math.Max(1, folder.LastIndexOf('/'))];
        try
        {
            SftpFileSystemInformation told = client.GetStatus(folder);
            return checked((long?)(told.AvailableBlocks * told.BlockSize));
        }
        catch (Exception error) when (error is NotSupportedException or OverflowException)
        {
            return null;
        }
    });

    /// <inheritdoc/>
    public bool Has(string name) => Do("look for " + name, client => client.Exists(PathOf(name)));

    /// <inheritdoc/>
    public ISetFile Open(string name) => Do("open " + name, client => client.Exists(PathOf(name))
        ? new SftpSetFile(this, client.OpenRead(PathOf(name)))
        : throw new FileNotFoundException($"{PathOf(name)} is not there"));

    /// <inheritdoc/>
    public ISetFile OpenWhole(string name, string scratch, Action<long, long> progress, CancellationToken cancel)
    {
        // Asking for one part after the other would wait for the line each time; the whole file comes as fast as the line carries it.
        string copy = Path.Combine(scratch, name + ".fetched");
        Directory.CreateDirectory(scratch);
        File.Delete(copy);
        try
        {
            Do("read " + name, client =>
            {
                long total = client.GetAttributes(PathOf(name)).Size;
                using FileStream file = new(copy, FileMode.CreateNew, FileAccess.Write);
                client.DownloadFileAsync(PathOf(name), file, new Reporting<DownloadFileProgressReport>(report =>
                    progress((long)report.TotalBytesDownloaded, total)), cancel).GetAwaiter().GetResult();
                return true;
            });
            return new FetchedFile(copy);
        }
        catch
        {
            File.Delete(copy);
            throw;
        }
    }

    /// <inheritdoc/>
    public void Put(string from, string name, string asWritten, Action<long, long> progress, CancellationToken cancel)
    {
        string path = PathOf(name), part = PathOf(asWritten);
        Do("write " + name, client =>
        {
            if (client.Exists(path)) throw new IOException($"{path} is there already");
            try
            {
                using FileStream file = File.OpenRead(from);
                client.UploadFileAsync(file, part, new Reporting<UploadFileProgressReport>(report =>
                    progress((long)report.TotalBytesUploaded, file.Length)),
                    cancel).GetAwaiter().GetResult();
                long taken = client.GetAttributes(part).Size;
                if (taken != file.Length) throw new IOException(string.Create(CultureInfo.InvariantCulture,
                    $"only {taken} of {file.Length} bytes were accepted"));
                client.RenameFile(part, path);
                return true;
            }
            catch
            {
                TryRemove(client, part);
                throw;
            }
        });
    }

    private static void TryRemove(SftpClient client, string path)
    {
        try
        {
            if (client.IsConnected && client.Exists(path)) client.DeleteFile(path);
        }
        catch (SshException) { /* the next backup clears it away */ }
    }

    /// <inheritdoc/>
    public void Rename(string from, string to) => Do($"rename {from}", client =>
    {
        client.RenameFile(PathOf(from), PathOf(to));
        return true;
    });

    /// <inheritdoc/>
    public void Remove(string name) => Do("remove " + name, client =>
    {
        if (client.Exists(PathOf(name))) client.DeleteFile(PathOf(name));
        return true;
    });

    private string PathOf(string name) => Folder + "/" + name;

    /// <summary>Does something there; one thing at a time.</summary>
    internal T Do<T>(string doing, Func<SftpClient, T> work)
    {
        lock (_lock)
        {
            try
            {
                return work(Connected());
            }
            catch (TransferraException error)
            {
                // What we log in with is not to be had; the other places go on.
                throw new IOException($"cannot {doing}: {error.Message}", error);
            }
            catch (SftpPathNotFoundException error)
            {
                throw new FileNotFoundException($"cannot {doing}: it is not there", error);
            }
            catch (SftpPermissionDeniedException error)
            {
                throw new UnauthorizedAccessException($"cannot {doing}: {address.User} may not do that there", error);
            }
            catch (SftpException error)
            {
                throw new IOException($"cannot {doing}: {address.Host} says \"{error.Message}\", as it also does when its disk is full",
                    error);
            }
            catch (SshAuthenticationException error)
            {
                throw new IOException($"{address.Host} does not let {address.User} in: {error.Message}", error);
            }
            catch (Exception error) when (error is SshException or SocketException or ObjectDisposedException)
            {
                throw new IOException($"cannot {doing}: "
                    + $"{(error is SocketException ? $"{address.Host} cannot be reached: " : "")}{error.Message}", error);
            }
        }
    }

    private SftpClient Connected()
    {
        if (_client is { IsConnected: true } connected) return connected;
        _client?.Dispose();
        string? wrongKey = null;
        var info = new ConnectionInfo(address.Host, address.Port, address.User, [.. Methods()]) { Timeout = ConnectTime };
        var client = new SftpClient(info) { OperationTimeout = AnswerTime };
        client.HostKeyReceived += (_, shown) =>
        {
            string fingerprint = "SHA256:" + shown.FingerPrintSHA256.TrimEnd('=');
            shown.CanTrust = fingerprint == address.HostKey?.TrimEnd('=');
            if (!shown.CanTrust) wrongKey = fingerprint;
        };
        try
        {
            client.Connect();
        }
        catch (Exception error)
        {
            client.Dispose();
            if (wrongKey is null) throw;
            throw new IOException(address.HostKey is null
                ? $"{address.Host} shows the key {wrongKey}; compare it with the one its administrator tells you, and write it down as "
                    + "host-key in office.yaml"
                : $"{address.Host} shows the key {wrongKey}, and office.yaml knows it by {address.HostKey}: it is another machine, or "
                    + "has got a new key; ask its administrator", error);
        }
        return _client = client;
    }

    private IEnumerable<AuthenticationMethod> Methods()
    {
        string? secret = SecretText.Read("password", address.PasswordFile, address.PasswordVariable);
        if (address.KeyFile is null)
        {
            yield return new PasswordAuthenticationMethod(address.User, secret ?? "");
            yield break;
        }
        if (!File.Exists(address.KeyFile)) throw new IOException($"the key file {address.KeyFile} is not there");
        if (!SecretText.IsPrivate(address.KeyFile))
            throw new IOException($"the key file {address.KeyFile} can be read by others; let only its owner read it: "
                + $"chmod 600 {address.KeyFile}");
        PrivateKeyFile key;
        try
        {
            key = secret is null ? new PrivateKeyFile(address.KeyFile) : new PrivateKeyFile(address.KeyFile, secret);
        }
        catch (SshException error)
        {
            throw new IOException($"the key file {address.KeyFile} cannot be used: {error.Message}", error);
        }
        yield return new PrivateKeyAuthenticationMethod(address.User, key);
    }

    /// <inheritdoc/>
    public void Dispose() => _client?.Dispose();

    /// <summary>Reports at once, on the thread that works.</summary>
    private sealed class Reporting<T>(Action<T> report) : IProgress<T>
    {
        public void Report(T value) => report(value);
    }

    /// <summary>A file there, read in parts.</summary>
    private sealed class SftpSetFile(SftpPlace place, SftpFileStream stream) : ISetFile
    {
        public long Length { get; } = stream.Length;

        public int ReadAt(long position, Span<byte> buffer)
        {
            byte[] read = new byte[buffer.Length];
            int done = place.Do("read on", _ =>
            {
                stream.Seek(position, SeekOrigin.Begin);
                int all = 0;
                for (int part; all < read.Length && (part = stream.Read(read, all, read.Length - all)) > 0;) all += part;
                return all;
            });
            read.AsSpan(0, done).CopyTo(buffer);
            return done;
        }

        public void Dispose() => stream.Dispose();
    }

    /// <summary>A copy of a file there, removed when it is not needed any more.</summary>
    private sealed class FetchedFile(string path) : ISetFile
    {
        private readonly LocalSetFile _copy = new(path);

        public long Length => _copy.Length;

        public int ReadAt(long position, Span<byte> buffer) => _copy.ReadAt(position, buffer);

        public void Dispose()
        {
            _copy.Dispose();
            File.Delete(path);
        }
    }
}
