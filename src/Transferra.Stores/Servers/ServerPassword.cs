// ServerPassword.cs: finds the password for a server where office.yaml says it is kept. It goes to the driver and nowhere else.
// Holds: (1) a file that others may read is refused; (2) no message contains a password.
using Transferra.Core.Records;

namespace Transferra.Stores.Servers;

internal static class ServerPassword
{
    private const UnixFileMode OthersMay = UnixFileMode.GroupRead | UnixFileMode.GroupWrite | UnixFileMode.OtherRead | UnixFileMode.OtherWrite;

    /// <summary>The password; null when office.yaml names no place, so that the engine's own habit decides.</summary>
    /// <exception cref="TransferraException">The place named has none, or others can read it.</exception>
    public static string? Of(ServerAddress server)
    {
        if (server.PasswordVariable is { } variable)
        {
            return Environment.GetEnvironmentVariable(variable) is { Length: > 0 } value ? value
                : throw new TransferraException($"the environment variable {variable} holds no password", $"Set it before you start, or name a password-file in office.yaml.");
        }
        return server.PasswordFile is { } file ? FirstLine(file) : null;
    }

    /// <summary>Whether only the owner may read a file.</summary>
    public static bool IsPrivate(string file) => OperatingSystem.IsWindows() || (File.GetUnixFileMode(file) & OthersMay) == 0;

    private static string FirstLine(string file)
    {
        try
        {
            if (!IsPrivate(file)) throw new TransferraException($"the password file {file} can be read by others", $"Let only its owner read it: chmod 600 {file}");
            using var reader = new StreamReader(file);
            return reader.ReadLine() is { Length: > 0 } line ? line : throw new TransferraException($"the first line of the password file {file} is empty", "Write the password into it, and nothing else.");
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException)
        {
            throw new TransferraException($"the password file {file} cannot be read: {error.Message}", "Correct password-file in office.yaml, or run as a user who may read it.", error);
        }
    }
}
