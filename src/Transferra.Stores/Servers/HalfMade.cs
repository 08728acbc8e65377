// HalfMade.cs: takes away what is half made, and does not let a server that has gone hide what went wrong before. A run knows the names
// it gave, and removes what is left when it is resumed or undone.
using System.Data.Common;
using Transferra.Core.Machine;

namespace Transferra.Stores.Servers;

internal static class HalfMade
{
    /// <returns>Whether it could be removed.</returns>
    public static bool Remove(Action remove)
    {
        try
        {
            remove();
            return true;
        }
        catch (Exception error) when (error is TransferraException or DbException or IOException)
        {
            return false; // told before, by what broke off
        }
    }
}
