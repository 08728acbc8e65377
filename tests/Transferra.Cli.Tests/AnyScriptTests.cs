using System.Globalization;
using System.Text;
using System.Text.Json;
using Transferra.Core.Records;
using Transferra.Tests;

namespace Transferra.Cli.Tests;

/// <summary>Random databases and random vendor's scripts, of which the test knows what they did: nothing that was changed goes unnoticed,
/// what the match proposes explains it, and no sound script is stopped.</summary>
public sealed class AnyScriptTests(ITestOutputHelper output) : IDisposable
{
    private const int Daily = 25, DailyOnServer = 6, Soaked = 1000;

    private readonly OddOffice _office = new();
    private readonly TestServers _servers = new();
    private string _engine = "sqlite";
    private int _made;

    public void Dispose()
    {
        _office.Dispose();
        _servers.Dispose();
    }

    /// <summary>What a script does.</summary>
    /// <param name="Name">In words, for a failure.</param>
    /// <param name="Sql">Its statements.</param>
    /// <param name="IsSilent">Whether every old record is where it was, with every value.</param>
    /// <param name="IsExplicable">Whether a line of the kit can say so.</param>
    private sealed record Act(string Name, string Sql, bool IsSilent, bool IsExplicable);

    private sealed record Table(string Name, string[] Columns);

    [Theory]
    [InlineData("sqlite")]
    [InlineData("postgresql")]
    [InlineData("mariadb")]
    public void Nothing_that_a_script_changes_goes_unnoticed_and_the_proposals_explain_it(string engine)
    {
        _engine = engine;
        int explicable = 0, explained = 0;
        for (int i = 0; i < (Seeds.IsSoak ? Soaked : engine == "sqlite" ? Daily : DailyOnServer); i++)
        {
            int seed = Seeds.Given * 1000 + i;
            output.WriteLine(string.Create(CultureInfo.InvariantCulture, $"seed {seed}"));
            var random = new Random(seed);
            (string made, List<Table> tables) = Database(random);
            Act[] acts = Acts(random, tables);
            string told = string.Create(CultureInfo.InvariantCulture, $"seed {seed}: {string.Join(", ", acts.Select(act => act.Name))}");
            bool isSound = acts.All(act => act.IsSilent);
            Begin(made, acts, "");
            JsonElement match = Match(isSound ? 0 : 1, told);
            Assert.True((match.GetProperty("verdict").GetString() == "proved") == isSound, told + "\n" + match.GetRawText());
            if (isSound || !acts.All(act => act.IsSilent || act.IsExplicable)) continue;
            explicable++;
            Begin(made, acts, Proposed(match));
            if (Match(null, told).GetProperty("verdict").GetString() == "proved") explained++;
            else output.WriteLine("  not explained: " + told + "\n" + Proposed(match));
        }
        output.WriteLine(string.Create(CultureInfo.InvariantCulture, $"{explained} of {explicable} explained"));
        int least = engine == "sqlite" || Seeds.IsSoak ? 5 : 1;
        Assert.True(explicable > least && explained * 10 >= explicable * 9, string.Create(CultureInfo.InvariantCulture,
            $"only {explained} of {explicable} are explained by what is proposed"));
    }

    private static (string Sql, List<Table> Tables) Database(Random random)
    {
        var sql = new StringBuilder("CREATE TABLE ver (v VARCHAR(9));INSERT INTO ver VALUES ('1');");
        var tables = new List<Table>();
        for (int t = 0; t < random.Next(2, 5); t++)
        {
            string[] columns = [.. Enumerable.Range(0, random.Next(3, 6)).Select(c => FormattableString.Invariant($"C{t}{c}"))];
            var table = new Table(FormattableString.Invariant($"T{t}"), columns);
            tables.Add(table);
            sql.Append(CultureInfo.InvariantCulture, $"CREATE TABLE {table.Name} (ID INTEGER PRIMARY KEY, ")
                .AppendJoin(", ", columns.Select(column => column + " VARCHAR(20)")).Append(");");
            for (int row = 1; row <= random.Next(6, 20); row++)
                sql.Append(CultureInfo.InvariantCulture, $"INSERT INTO {table.Name} VALUES "
                    + $"({row}, ").AppendJoin(", ", columns.Select((_, c) =>
                    random.Next(12) == 0 ? "NULL" : string.Create(CultureInfo.InvariantCulture, $"'v{c}-{random.Next(8)}'"))).Append(");");
        }
        return (sql.ToString(), tables);
    }

    // At most one for each table, so that each can be told.
    private Act[] Acts(Random random, List<Table> tables) =>
        [.. tables.Where(_ => random.Next(3) > 0).DefaultIfEmpty(tables[0]).Select(table => Any(random, table))];

    private Act Any(Random random, Table table)
    {
        string Joined(string a, string b) => _engine == "mariadb" ? $"concat({a}, {b})" : $"{a} || {b}";
        string name = table.Name, column = table.Columns[random.Next(table.Columns.Length)];
        string all = "ID, " + string.Join(", ", table.Columns),
            mixed = string.Join(", ", [.. table.Columns.Reverse().Select(known => known + " TEXT"), "ID INTEGER PRIMARY KEY"]);
        return random.Next(13) switch
        {
            0 => new($"{name} gets a column", $"ALTER TABLE {name} ADD COLUMN NEW_ TEXT DEFAULT 'x'", true, true),
            1 => new($"a table beside {name}", $"CREATE TABLE {name}_NEW AS SELECT 1 AS A; CREATE INDEX {name}_X ON {name} "
                + $"({column})", true, true),
            2 => new($"{name} is made anew in another order", $"CREATE TABLE N_ ({mixed}); INSERT INTO N_ ({all}) SELECT {all} FROM "
                + $"{name}; "
                + $"DROP TABLE {name}; ALTER TABLE N_ RENAME TO {name}", true, true),
            3 => new($"{name}.{column} is renamed", $"ALTER TABLE {name} RENAME COLUMN {column} TO OTHER_", false, true),
            4 => new($"{name} is renamed", $"ALTER TABLE {name} RENAME TO {name}_OTHER", false, true),
            5 => new($"{name}.{column} goes", $"ALTER TABLE {name} DROP COLUMN {column}", false, true),
            6 => new($"{name} goes", $"DROP TABLE {name}", false, true),
            7 => new($"records of {name} go", $"DELETE FROM {name} WHERE ID IN (2, 5)", false, true),
            8 => new($"{name}.{column} becomes one value", $"UPDATE {name} SET {column} = 'same'", false, true),
            9 => new($"a record of {name} changes", $"UPDATE {name} SET {column} = 'changed once' WHERE ID = 3", false, false),
            10 => new($"{name} gets a record", $"INSERT INTO {name} (ID, {column}) VALUES (99, 'shipped')", false, false),
            11 => new($"values of {name}.{column} are exchanged", $"CREATE TABLE X_ AS SELECT * FROM {name}; UPDATE {name} SET "
                + $"{column} = {Joined($"(SELECT t.{column} FROM X_ t WHERE t.ID = {name}.ID % (SELECT count(*) FROM X_) + 1)", "'x'")}; "
                + "DROP TABLE X_", false, false),
            _ => new($"blanks behind {name}.{column}", $"UPDATE {name} SET {column} = {Joined($"coalesce({column}, '')",
                "' '")} WHERE ID = 1", false, false),
        };
    }

    private StoreAddress Store(string made)
    {
        if (_engine != "sqlite") return _servers.Made(_engine, FormattableString.Invariant($"any{_made++}"),
            [.. made.Split(';', StringSplitOptions.RemoveEmptyEntries)]);
        Directory.CreateDirectory(_office["data"]);
        DemoFolder.Execute(_office["data/a.db"], made);
        return new StoreAddress("sqlite", _office["data/a.db"]);
    }

    private void Begin(string made, Act[] acts, string explained)
    {
        _office.Run("undo", "--yes", "A");
        foreach (string folder in (string[])["transferra", "sets", "data"])
            if (Directory.Exists(_office[folder])) Directory.Delete(_office[folder], recursive: true);
        _office.Write("kit/kit.yaml", "kit: any\ntitle: Any\nversions: [\"1\", \"2\"]\nhops: [1-to-2]\n");
        foreach (string version in (string[])["1", "2"])
            _office.Write($"kit/versions/{version}.yaml", $"version: \"{version}\"\ntold-by: [{{sql: SELECT v FROM ver, is: "
                + $"\"{version}\"}}]\n");
        _office.Write("kit/to-2.sql", string.Join(";\n", acts.Select(act => act.Sql)) + ";\nUPDATE ver SET v = '2';");
        _office.Write("kit/hops/1-to-2.yaml", "hop: {from: \"1\", to: \"2\"}\nmeans: {scripts: {files: [to-2.sql]}}\n"
            + (explained.Contains("tables:\n", StringComparison.Ordinal) ? explained.Replace("tables:\n", "tables:\n" + OfVersion,
                StringComparison.Ordinal) : "tables:\n" + OfVersion + explained));
        StoreAddress store = Store(made);
        _office.Companies.Clear();
        _office.Companies.Add(new OddCompany("A", store, _engine == "sqlite" ? "{sqlite: data/a.db}" : OddOffice.ServerYaml(store)));
        _office.Ready();
    }

    private const string OfVersion = "  - {from: ver, into: {ver: {v: \"'2'\"}}}\n";

    private JsonElement Match(int? code, string told)
    {
        Called converted = _office.Run("convert", "A");
        Assert.True(converted.ExitCode == 0, told + "\n" + converted.All);
        Called match = _office.Run("match", "A", "--json");
        Assert.True(code is null || match.ExitCode == code, told + "\n" + match.All);
        return match.Json.GetProperty("result")[0].GetProperty("match");
    }

    // As a person would put them in, with a reason in place of the dots.
    private static string Proposed(JsonElement match)
    {
        var lines = new StringBuilder();
        foreach (IGrouping<string, string> under in match.GetProperty("proposals").EnumerateArray().GroupBy(proposal =>
            proposal.GetProperty("under").GetString()!, proposal => proposal.GetProperty("line").GetString()!))
            lines.Append(under.Key).Append(":\n").AppendJoin("", under.Select(line => $"  {line.Replace("...", "as the vendor says",
                StringComparison.Ordinal)}\n"));
        return lines.ToString();
    }
}
