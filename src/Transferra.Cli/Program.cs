// Program.cs: the composition root: real disk, real stores, real console.
using System.Runtime.CompilerServices;
using Transferra.Cli;
using Transferra.Core.Machine;

try
{
    return await Run(args).ConfigureAwait(false);
}
catch (Exception error)
{
    // The program itself could not be loaded or end: no memory, no file handles left.
    Console.Error.WriteLine($"transferra: it could not go on: {error.Message.Split('\n')[0]}");
    Console.Error.WriteLine("  Give it more open files and memory (ulimit -n, ulimit -v). What state the office is in: transferra "
        + "survey. Whether it is closed: transferra reopen");
    return ExitCodes.Unproved;
}

[MethodImpl(MethodImplOptions.NoInlining)]
static Task<int> Run(string[] arguments) => CommandLine.RunAsync(arguments, new DiskVolume());
