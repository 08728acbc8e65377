// Program.cs: the command line of Transferra on a disk that kills the process, as a power cut would, at its n-th operation.
// First argument: n, negative to kill after the operation and not before; "FILE*n" counts only how often a file of that name is replaced.
// The rest goes to Transferra. Or "serve": see Serving.cs.
using System.Globalization;
using Transferra.Cli;
using Transferra.Core.Machine;
using Transferra.KillHost;
using Transferra.Tests;

Session.RowsBetweenMarks = 1;
// How often a match keeps what it has come to depends on how quick the machine is, and n must mean the same each time.
Session.BetweenMatchMarks = args[0].StartsWith("match-progress.json*", StringComparison.Ordinal) ? TimeSpan.Zero : TimeSpan.MaxValue;
if (args is ["serve"]) return await Serving.Go().ConfigureAwait(false);
string[] counted = args[0].Split('*');
int at = int.Parse(counted[^1], CultureInfo.InvariantCulture);
var volume = new FaultyVolume(new DiskVolume(), Math.Abs(at), afterwards: at < 0, fault: Serving.Die)
{
    Only = counted.Length > 1 ? counted[0] : null
};
return await CommandLine.RunAsync(args[1..], volume).ConfigureAwait(false);
