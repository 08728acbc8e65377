// ExitCodes.cs: what the program's exit code means; the table stands in docs/exit-codes.md.
namespace Transferra.Cli;

internal static class ExitCodes
{
    /// <summary>Done and proved.</summary>
    public const int Done = 0;

    /// <summary>Done, but there are findings, exceptions or differences to look at.</summary>
    public const int LookAt = 1;

    /// <summary>Refused; nothing was done.</summary>
    public const int Refused = 2;

    /// <summary>Stopped part-way; to be resumed or undone.</summary>
    public const int PartWay = 3;

    /// <summary>Could not be undone or proved.</summary>
    public const int Unproved = 4;
}
