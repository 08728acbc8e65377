// Program.cs: the command line of Transferra on a disk that kills the process, as a power cut would, at its n-th operation.
// First argument: n, negative to kill after the operation and not before. The rest goes to Transferra. Or "serve": see Serving.cs.
using System.Globalization;
using Transferra.Cli;
using Transferra.Core.Machine;
using Transferra.KillHost;
using Transferra.Tests;

if (args is ["serve"]) return await Serving.Go().ConfigureAwait(false);
int at = int.Parse(args[0], CultureInfo.InvariantCulture);
var volume = new FaultyVolume(new DiskVolume(), Math.Abs(at), afterwards: at < 0, fault: Serving.Die);
return await CommandLine.RunAsync(args[1..], volume).ConfigureAwait(false);
