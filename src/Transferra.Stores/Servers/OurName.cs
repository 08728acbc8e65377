// OurName.cs: the name by which this process knows its own connections among those that a server lists.
// Why more than the number of the process: programs in containers often have the same one, and whoever is taken for us does not count
// when it is proved that nobody is left in a database.
// Holds: (1) no other process has it.
using System.Globalization;
using System.Security.Cryptography;

namespace Transferra.Stores.Servers;

internal static class OurName
{
    private const int RandomBytes = 4;

    /// <summary>"transferra", the number of the process, and something random.</summary>
    public static readonly string Text = string.Create(CultureInfo.InvariantCulture,
        $"transferra {Environment.ProcessId}-{Convert.ToHexStringLower(RandomNumberGenerator.GetBytes(RandomBytes))}");
}
