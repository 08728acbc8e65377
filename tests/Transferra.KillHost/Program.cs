// Program.cs: the command line of Transferra on a disk that kills the process, as a power cut would, at its n-th operation.
// First argument: n, negative to kill after the operation and not before. The rest goes to Transferra.
using System.Globalization;
using Transferra.Cli;
using Transferra.Core.Runs;
using Transferra.Tests;

int at = int.Parse(args[0], CultureInfo.InvariantCulture);
var volume = new FaultyVolume(new DiskVolume(), Math.Abs(at), afterwards: at < 0, fault: () =>
{
    System.Diagnostics.Process.GetCurrentProcess().Kill();
    Thread.Sleep(Timeout.Infinite);
    throw new InvalidOperationException("a killed process does not come here");
});
return await CommandLine.RunAsync(args[1..], volume).ConfigureAwait(false);
