// OptionFile.cs: user and password from the [client] group of .my.cnf, where the engine's own programs find them.
using Transferra.Core.Machine;

namespace Transferra.Stores.Mariadb;

internal static class OptionFile
{
    /// <summary>What the file in the home folder says; null when it is not there or says nothing.</summary>
    /// <exception cref="TransferraException">Others may read it.</exception>
    public static (string User, string Password)? Read() =>
        Read(Path.Combine(Environment.GetFolderPath(Environment.SpecialFolder.UserProfile), ".my.cnf"));

    internal static (string User, string Password)? Read(string file)
    {
        if (!File.Exists(file)) return null;
        string user = Environment.UserName, password = "";
        bool inClient = false, found = false;
        foreach (string line in File.ReadLines(file).Select(line => line.Trim()))
        {
            if (line.StartsWith('[')) inClient = line is "[client]" or "[client-mariadb]";
            int equals = line.IndexOf('=', StringComparison.Ordinal);
            if (!inClient || equals < 0 || line[0] is '#' or ';') continue;
            string value = line[(equals + 1)..].Trim();
            if (value.Length >= 2 && value[0] is '"' or '\'' && value[^1] == value[0]) value = value[1..^1];
            switch (line[..equals].Trim())
            {
                case "user": user = value; found = true; break;
                case "password": password = value; found = true; break;
            }
        }
        if (!found) return null;
        return password.Length == 0 || SecretText.IsPrivate(file) ? (user, password)
            : throw new TransferraException($"the option file {file} has a password and can be read by others",
                $"Let only its owner read it: chmod 600 {file}");
    }
}
