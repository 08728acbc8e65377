// SecretText.cs: reads a password or key where office.yaml says it is kept: a file that only its owner may read, or the environment.
// Holds: (1) a file that others may read is refused; (2) no message contains the secret.
namespace Transferra.Core.Machine;

/// <summary>Reads secrets.</summary>
public static class SecretText
{
    private const UnixFileMode OthersMay = UnixFileMode.GroupRead | UnixFileMode.GroupWrite
        | UnixFileMode.OtherRead | UnixFileMode.OtherWrite;

    /// <summary>The secret; null when no place is named.</summary>
    /// <param name="what">What it is, such as "password".</param>
    /// <param name="file">File with the secret in its first line; null when there is none.</param>
    /// <param name="variable">Environment variable that holds it; null when there is none.</param>
    /// <exception cref="TransferraException">The place named has none, or others can read it.</exception>
    public static string? Read(string what, string? file, string? variable)
    {
        if (variable is not null)
        {
            return Environment.GetEnvironmentVariable(variable) is { Length: > 0 } value ? value
                : throw new TransferraException($"the environment variable {variable} holds no {what}",
                    "Set it before you start, or name a file in office.yaml.");
        }
        return file is null ? null : FirstLine(what, file);
    }

    /// <summary>Whether only the owner may read a file.</summary>
    public static bool IsPrivate(string file) => (File.GetUnixFileMode(file) & OthersMay) == 0;

    private static string FirstLine(string what, string file)
    {
        try
        {
            if (!IsPrivate(file)) throw new TransferraException($"the {what} file {file} can be read by others",
                $"Let only its owner read it: chmod 600 {file}");
            using var reader = new StreamReader(PlainFile.Open(file));
            return reader.ReadLine() is { Length: > 0 } line
                ? line : throw new TransferraException($"the first line of the {what} file {file} is empty",
                    $"Write the {what} into it, and nothing else.");
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException)
        {
            throw new TransferraException($"the {what} file {file} cannot be read: {error.Message}",
                "Correct its name in office.yaml, or run as a user who may read it.", error);
        }
    }

    /// <summary>A secret as it may be shown: letters and digits but the last two hidden; all of them when it is short.</summary>
    public static string Masked(string secret)
    {
        const int shortest = 8, shown = 2;
        char[] masked = secret.ToCharArray();
        int left = secret.Length < shortest ? 0 : shown;
        for (int i = masked.Length - 1; i >= 0; i--)
        {
            if (!char.IsLetterOrDigit(masked[i])) continue;
            if (left-- > 0) continue;
            masked[i] = '*';
        }
        return new string(masked);
    }
}
