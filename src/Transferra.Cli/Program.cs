// Program.cs: the composition root: real disk, real stores, real console.
using Transferra.Cli;
using Transferra.Core.Runs;

return await CommandLine.RunAsync(args, new DiskVolume()).ConfigureAwait(false);
