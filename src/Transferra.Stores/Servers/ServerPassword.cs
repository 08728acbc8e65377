// ServerPassword.cs: the password for a server, from where office.yaml says it is kept. It goes to the driver and nowhere else.
using Transferra.Core.Machine;
using Transferra.Core.Records;

namespace Transferra.Stores.Servers;

internal static class ServerPassword
{
    /// <summary>The password; null when office.yaml names no place, so that the engine's own habit decides.</summary>
    /// <exception cref="TransferraException">The place named has none, or others can read it.</exception>
    public static string? Of(ServerAddress server) => SecretText.Read("password", server.PasswordFile, server.PasswordVariable);
}
