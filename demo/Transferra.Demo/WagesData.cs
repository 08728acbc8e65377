// WagesData.cs: the payroll of Quaverholt in the shape of Pellwright Wages version 6, a SQLite file, and what the vendor does to it:
// by its converter from version 7 to 8, and by its program at the first login from 8 to 9. From 6 to 7 its scripts lead, which lie in the
// kit.
using System.Globalization;
using Microsoft.Data.Sqlite;

namespace Transferra.Demo;

/// <summary>One company's payroll.</summary>
internal sealed class WagesData(int seed, int employees, int periods)
{
    private static readonly string[] FirstNames = ["Aurelia", "Bram", "Cosima", "Dov", "Edda", "Florin", "Greta", "Halvard", "Ilse",
        "Jory"];
    private static readonly string[] LastNames = ["Achterberg", "Bellweather", "Ciobănescu", "Dreyfuss-Hale", "Eskildsen", "Fjellström"];
    private static readonly string[] Departments = ["hire desk", "workshop", "stores", "office"];
    private static readonly DateOnly FirstDay = new(2021, 4, 1);

    private readonly Chance _chance = new(seed);

    public void Write(string path)
    {
        Directory.CreateDirectory(Path.GetDirectoryName(path)!);
        using SqliteConnection connection = Open(path);
        Execute(connection, """
            PRAGMA page_size = 4096; PRAGMA journal_mode = MEMORY; PRAGMA synchronous = OFF; PRAGMA user_version = 6;
            CREATE TABLE EMPLOYEE (EMPNO INTEGER PRIMARY KEY, NAME TEXT NOT NULL, BORN DATE, DEPT TEXT, RATE_PENCE INTEGER NOT NULL);
            CREATE TABLE ELEMENT (CODE TEXT PRIMARY KEY, TITLE TEXT NOT NULL);
            CREATE TABLE PAYLINE (PAYNO INTEGER PRIMARY KEY, EMPNO INTEGER NOT NULL REFERENCES EMPLOYEE (EMPNO), PER INTEGER NOT NULL,
              ELEMENT TEXT NOT NULL REFERENCES ELEMENT (CODE), PENCE INTEGER NOT NULL);
            CREATE TABLE REMARK (EMPNO INTEGER, NOTED DATE, WORDS TEXT);
            CREATE VIEW PAY_OF_PERIOD AS SELECT PER, SUM(PENCE) AS PENCE FROM PAYLINE GROUP BY PER;
            INSERT INTO ELEMENT VALUES ('BASIC', 'Basic pay'), ('OVERT', 'Overtime'), ('TRAVEL', 'Travel to concerts');
            """);
        using SqliteTransaction transaction = connection.BeginTransaction();
        int line = 0;
        for (int employee = 1; employee <= employees; employee++)
        {
            int rate = 1100 + _chance.Next(1900);
            Insert(connection, "EMPLOYEE", employee, $"{_chance.Pick(FirstNames)} {_chance.Pick(LastNames)}",
                Day(FirstDay.AddYears(-20 - _chance.Next(40)).AddDays(_chance.Next(365))), _chance.Pick(Departments), rate);
            for (int period = 1; period <= periods; period++)
            {
                Insert(connection, "PAYLINE", ++line, employee, period, "BASIC", rate * 150);
                if (_chance.Next(4) == 0) Insert(connection, "PAYLINE", ++line, employee, period, "OVERT", rate * (1 + _chance.Next(12)));
                if (_chance.Next(9) == 0) Insert(connection, "PAYLINE", ++line, employee, period, "TRAVEL", 500 + _chance.Next(4000));
            }
            if (employee % 3 == 0)
                Insert(connection, "REMARK", employee, Day(FirstDay.AddDays(_chance.Next(1500))), "asked for a paper slip");
        }
        transaction.Commit();
    }

    private static string Day(DateOnly day) => day.ToString("yyyy-MM-dd", CultureInfo.InvariantCulture);

    private static SqliteConnection Open(string path)
    {
        var connection = new SqliteConnection(new SqliteConnectionStringBuilder { DataSource = path, Pooling = false }.ToString());
        connection.Open();
        return connection;
    }

    private static void Insert(SqliteConnection connection, string table, params object[] values)
    {
        using SqliteCommand command = connection.CreateCommand();
        command.CommandText = $"INSERT INTO {table} VALUES "
            + $"({string.Join(", ", values.Select((_, i) => FormattableString.Invariant($"@{i}")))})";
        for (int i = 0; i < values.Length; i++) command.Parameters.AddWithValue(FormattableString.Invariant($"@{i}"), values[i]);
        command.ExecuteNonQuery();
    }

    private static void Execute(SqliteConnection connection, string sql)
    {
        using SqliteCommand command = connection.CreateCommand();
        command.CommandText = sql;
        command.ExecuteNonQuery();
    }

    /// <summary>The vendor's converter: asks two questions, converts version 7 to 8, writes a log into the folder it is run in.</summary>
    public static void Convert(string store)
    {
        Console.Out.Write("Pellwright Wages converter. Company code? ");
        Console.Out.Flush();
        string code = Console.ReadLine()?.Trim() ?? "";
        Console.Out.Write($"Convert {code} from version 7 to 8 now (y/n)? ");
        Console.Out.Flush();
        if (Console.ReadLine()?.Trim() != "y") throw new IOException("not wanted");
        using var log = new StreamWriter("convert.log", append: true);
        using SqliteConnection connection = Open(store);
        foreach (string step in (string[])[
            "CREATE TABLE PAYRUN (PERIOD INTEGER PRIMARY KEY, LINES INTEGER NOT NULL, PENCE INTEGER NOT NULL)",
            "INSERT INTO PAYRUN SELECT PERIOD, COUNT(*), SUM(PENCE) FROM PAYLINE GROUP BY PERIOD",
            "ALTER TABLE EMPLOYEE ADD COLUMN BANK TEXT", "PRAGMA user_version = 8"])
        {
            Execute(connection, step);
            log.WriteLine($"done: {step[..Math.Min(step.Length, 40)]}");
            Console.Out.WriteLine($"  {step[..Math.Min(step.Length, 40)]}");
        }
        log.WriteLine("All tables converted");
    }

    /// <summary>The vendor's program at the first login of an administrator: converts version 8 to 9.</summary>
    public static void LogIn(string store)
    {
        using SqliteConnection connection = Open(store);
        Execute(connection, """
            CREATE TABLE WHO (NAME TEXT PRIMARY KEY, MAY TEXT NOT NULL);
            INSERT INTO WHO VALUES ('administrator', 'everything');
            ALTER TABLE REMARK ADD COLUMN BY_WHOM TEXT;
            PRAGMA user_version = 9;
            """);
    }
}
