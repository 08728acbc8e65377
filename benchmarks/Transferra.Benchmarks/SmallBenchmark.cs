// SmallBenchmark.cs: what commands take that have little to do, on the made-up office that comes with the program. Nearly all of it is the
// program's start.
using System.Globalization;

namespace Transferra.Benchmarks;

internal static class SmallBenchmark
{
    public static int Run(int rounds)
    {
        string folder = Directory.CreateTempSubdirectory("transferra-bench-").FullName;
        try
        {
            string office = Path.Combine(folder, "office");
            WholeCommand.Ours("demo", "--in", office);
            string[][] commands = [["--help"], ["survey"], ["check", "QIH"], ["backup", "QST"], ["match", "QIH"], ["signoff"]];
            var all = commands.ToDictionary(command => command, _ => new List<Measured>());
            for (int round = 0; round < rounds; round++)
                foreach (string[] command in commands)
                    all[command].Add(WholeCommand.Ours(command is ["--help"] ? command : [.. command, "--office", office]));
            var demos = new List<Measured>();
            for (int round = 0; round < Math.Max(1, rounds / 3); round++)
                demos.Add(WholeCommand.Ours("demo", "--in", Path.Combine(folder, round.ToString(CultureInfo.InvariantCulture))));
            foreach (string[] command in commands) WholeCommand.Tell(string.Join(' ', command), all[command]);
            WholeCommand.Tell("demo, all of it", demos);
            return 0;
        }
        finally
        {
            Directory.Delete(folder, recursive: true);
        }
    }
}
