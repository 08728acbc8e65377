// DemoOffice.cs: writes the demo office Quaverholt Instrument Hire to a folder, byte for byte the same each time.
// The planted faults are listed in demo/README.md; tests count on exactly those.
using System.Globalization;
using System.Reflection;
using System.Text;
using Microsoft.Data.Sqlite;

namespace Transferra.Demo;

/// <summary>Writes the demo office.</summary>
public static class DemoOffice
{
    /// <summary>Where the service's stand-in listens when nobody says otherwise.</summary>
    public const int UsualPort = 47110;

    private const string ResourcePrefix = "office/";

    // With so many vouchers there is one for each fault.
    private const int VouchersForFaults = 3_500;

    /// <summary>Writes office.yaml, the kit, the program stand-in, the companies' stores and documents.</summary>
    /// <param name="folder">An empty or new folder.</param>
    /// <param name="oneIn">Writes only one in so many records, for quick trials; beyond one in six, planted faults are missing.</param>
    /// <exception cref="IOException">The folder is not empty, or cannot be written.</exception>
    /// <param name="port">The port of the service's stand-in.</param>
    public static void Write(string folder, int oneIn = 1, int port = UsualPort)
    {
        Directory.CreateDirectory(folder);
        if (Directory.EnumerateFileSystemEntries(folder).Any()) throw new IOException($"the folder {folder} is not empty");
        Assembly assembly = typeof(DemoOffice).Assembly;
        foreach (string name in assembly.GetManifestResourceNames()
            .Where(name => name.StartsWith(ResourcePrefix, StringComparison.Ordinal)))
        {
            string path = Path.Combine(folder, name[ResourcePrefix.Length..]);
            Directory.CreateDirectory(Path.GetDirectoryName(path)!);
            using Stream resource = assembly.GetManifestResourceStream(name)!;
            using FileStream file = File.Create(path);
            resource.CopyTo(file);
        }
        string office = Path.Combine(folder, "office.yaml"), usual = UsualPort.ToString(CultureInfo.InvariantCulture);
        File.WriteAllText(office, File.ReadAllText(office).Replace(usual, port.ToString(CultureInfo.InvariantCulture),
            StringComparison.Ordinal));
        WriteText(Path.Combine(folder, "programs/ledger/ledger.ini"),
            "; stand-in for the installed program\n[Program]\nName=Pellwright "
                + $"Ledger\nVersion=5.4\n\n[Service]\nPort={port.ToString(CultureInfo.InvariantCulture)}\n\n[Print]\nPrinter=front "
                + "desk\nPaper=A4\n");
        WriteText(Path.Combine(folder, "programs/ledger/about.json"),
            "{\"program\": {\"name\": \"Pellwright Ledger\", \"version\": \"5.4\"}}\n");
        WriteText(Path.Combine(folder, "programs/ledger/bridge.properties"),
            "# stand-in for a component of another vendor\nbridge.version = 2.1\n");
        WriteText(Path.Combine(folder, "stations/front-desk/ledger.ini"),
            "; stand-in for the program on a workstation\n[Program]\nName=Pellwright Ledger\nVersion=5.4\n");
        WriteText(Path.Combine(folder, "programs/ledger/stand-in.conf"), StandInPlace());
        WriteText(Path.Combine(folder, "keys/ledger-licence"), "PWL6-QH7A-0042-HIRE-20351231\n");
        File.SetUnixFileMode(Path.Combine(folder, "keys/ledger-licence"), UnixFileMode.UserRead | UnixFileMode.UserWrite);
        new LedgerData(seed: 6001, customers: 400 / oneIn, suppliers: 60 / oneIn, invoices: 3000 / oneIn, vouchers: 24_000 / oneIn)
            .Write(Path.Combine(folder, "data/QIH/ledger.db"), "Quaverholt Hire", Faults.CopiesOnly);
        new LedgerData(seed: 6002, customers: 120 / oneIn, suppliers: 25 / oneIn, invoices: 700 / oneIn,
            vouchers: oneIn > 6 ? 6_000 / oneIn : Math.Max(VouchersForFaults, 6_000 / oneIn))
            .Write(Path.Combine(folder, "data/QWS/ledger.db"), "Quaverholt Workshop", Faults.All);
        WriteText(Path.Combine(folder, "programs/stockroom/stockroom.ini"),
            "; stand-in for the installed program\n[Program]\nName=Pellwright Stockroom\nVersion=3.2\n");
        new StockData(seed: 6003, instruments: 1200 / oneIn, parts: 240 / oneIn, movements: 9000 / oneIn)
            .Write(Path.Combine(folder, "data/QST/stock"));
        new WagesData(seed: 6004, employees: Math.Max(3, 48 / oneIn), periods: 60).Write(Path.Combine(folder, "data/QPW/wages.db"));
        WriteDocuments(Path.Combine(folder, "data/QIH/documents"));
    }

    // How this program is started: by itself, or as an assembly by the runtime's own program.
    private static string StandInPlace()
    {
        string assembly = Path.Combine(AppContext.BaseDirectory, "transferra.dll"), host = Environment.ProcessPath ?? "";
        string dotnet = Path.GetFileNameWithoutExtension(host) == "dotnet" ? host : "dotnet";
        return File.Exists(assembly) ? $"PROGRAM='{dotnet}'\nASSEMBLY='{assembly}'\n"
            : $"PROGRAM='{host}'\nASSEMBLY=\n";
    }

    private static void WriteDocuments(string folder)
    {
        for (int i = 1; i <= 12; i++)
        {
            string number = i.ToString("00", CultureInfo.InvariantCulture);
            WriteText(Path.Combine(folder, $"agreements/hire-{number}.txt"),
                $"Hire agreement {number}\n\nQuaverholt Instrument Hire lets the instrument named overleaf for the term agreed.\n");
        }
        WriteText(Path.Combine(folder, "reports/aged-debtors.rpt"), "TITLE Aged debtors\nSORT customer_no\nCOLUMNS 30 60 90\n");
        File.WriteAllBytes(Path.Combine(folder, "letterhead.bmp"), Letterhead(64, 24));
    }

    // A bitmap of 24 bits a pixel: file header 14 bytes, information header 40, then rows from the bottom up.
    private static byte[] Letterhead(int width, int height)
    {
        using var file = new MemoryStream();
        using var writer = new BinaryWriter(file);
        writer.Write("BM"u8);
        writer.Write(54 + width * height * 3);
        writer.Write(0);
        writer.Write(54);
        writer.Write(40);
        writer.Write(width);
        writer.Write(height);
        writer.Write((short)1);
        writer.Write((short)24);
        for (int i = 0; i < 6; i++) writer.Write(0);
        for (int y = 0; y < height; y++)
            for (int x = 0; x < width; x++)
                writer.Write((ReadOnlySpan<byte>)[(byte)(x * 3), (byte)(y * 9), (byte)(140 + x)]);
        return file.ToArray();
    }

    private static void WriteText(string path, string text)
    {
        Directory.CreateDirectory(Path.GetDirectoryName(path)!);
        File.WriteAllText(path, text, new UTF8Encoding(false));
    }
}

/// <summary>Which faults are planted.</summary>
internal enum Faults
{
    /// <summary>Exact copies, which a declared rule leaves out.</summary>
    CopiesOnly,
    /// <summary>Also an orphan, an unbalanced voucher, a date that is none and an amount that is none.</summary>
    All,
}

/// <summary>One company's books in the shape of Pellwright Ledger version 5.</summary>
internal sealed class LedgerData(int seed, int customers, int suppliers, int invoices, int vouchers)
{
    private static readonly string[] Instruments = ["violin", "viola", "cello", "double bass", "flute", "oboe", "clarinet", "bassoon",
        "French horn",
        "trumpet", "trombone", "euphonium", "harp", "timpani", "marimba", "piano accordion"];
    private static readonly string[] FirstNames = ["Agnès", "Björn", "Chloë", "Dafydd", "Élise", "Frédéric", "Gwen", "Håkon", "Inés",
        "Jürgen", "Kirsty",
        "Lorna", "Márta", "Niall", "Øystein", "Priya"];
    private static readonly string[] LastNames = ["Abernethy", "Brânescu", "Castañeda", "Dünnwald", "Espérandieu", "Fairweather",
        "Grünspan", "Hjørring",
        "Iñárritu", "Jéhan", "Kettlewell", "Løvenskiold", "Mårtensson", "Núñez", "Öhlund", "Pryce"];
    private static readonly string[] Towns = ["Quaverholt", "Semibreve St Mary", "Lower Fugue", "Crotchet Bay", "Cadenza-on-Sea",
        "Great Rondo", "Ostinato", "Thorpe Tremolo"];
    private static readonly (string Code, string Name, string Kind)[] Accounts =
    [
        ("1000", "Instruments", "AS"), ("1010", "Instruments: depreciation", "AS"), ("1100", "Debtors", "AS"), ("1200", "Bank", "AS"),
            ("1210", "Petty cash", "AS"),
        ("2100", "Creditors", "LI"), ("2200", "Sales tax", "LI"), ("2300", "Deposits held", "LI"), ("3000", "Capital", "CA"),
            ("4000", "Hire income", "IN"),
            ("4010", "Repairs income", "IN"),
        ("4020", "Sale of strings & reeds", "IN"), ("5000", "Strings, reeds and pads", "EX"), ("5100", "Wages", "EX"),
            ("5200", "Rent", "EX"),
            ("5300", "Carriage", "EX"), ("5400", "Tuner's café account", "EX"),
    ];

    private readonly Chance _chance = new(seed);

    private int Next(int below) => _chance.Next(below);

    private static readonly Encoding CodePage = BuildCodePage();

    private static Encoding BuildCodePage()
    {
        Encoding.RegisterProvider(CodePagesEncodingProvider.Instance);
        return Encoding.GetEncoding(850, new EncoderReplacementFallback("?"), DecoderFallback.ExceptionFallback);
    }

    private static readonly DateOnly FirstDay = new(2021, 4, 1);
    private const int Periods = 60;

    public void Write(string path, string name, Faults faults)
    {
        Directory.CreateDirectory(Path.GetDirectoryName(path)!);
        using var connection = new SqliteConnection(new SqliteConnectionStringBuilder { DataSource = path, Pooling = false }.ToString());
        connection.Open();
        Execute(connection, "PRAGMA page_size = 4096; PRAGMA journal_mode = MEMORY; PRAGMA synchronous = OFF; PRAGMA user_version = 50");
        Execute(connection, """
            CREATE TABLE SYSINFO (KEYNAME TEXT, VAL TEXT);
            CREATE TABLE PERIODS (PNO INTEGER, PSTART TEXT, PEND TEXT, CLOSED TEXT);
            CREATE TABLE ACCTS (AID INTEGER, ACODE TEXT, ANAME TEXT, ATYPE TEXT);
            CREATE TABLE CUST (CNO INTEGER, CNAME TEXT, ADDR1 TEXT, ADDR2 TEXT, TOWN TEXT, PCODE TEXT, PHONE TEXT, CLIMIT TEXT,
              FAXFLAG TEXT);
            CREATE TABLE SUPP (SNO INTEGER, SNAME TEXT, TOWN TEXT, PHONE TEXT);
            CREATE TABLE INV (INO TEXT, CNO INTEGER, IDATE TEXT, DUE TEXT, NET TEXT, VAT TEXT, VATC TEXT, STAT TEXT);
            CREATE TABLE JRNL (JNO INTEGER, VNO TEXT, JDATE TEXT, PNO INTEGER, ACODE TEXT, DR TEXT, CR TEXT, NARR TEXT);
            CREATE TABLE NOTES (NREF TEXT, LNO INTEGER, TXT TEXT);
            CREATE INDEX JRNL_JNO ON JRNL (JNO);
            """);
        using SqliteTransaction transaction = connection.BeginTransaction();
        using (var row = new Inserter(connection, "SYSINFO", 2))
        {
            row.Add("DATAVER", "5");
            row.Add("FIRM", name);
            row.Add("YEAREND", "31/03");
        }
        WriteLists(connection);
        WriteInvoices(connection);
        WriteJournal(connection, faults);
        WriteNotes(connection);
        transaction.Commit();
    }

    private static void Execute(SqliteConnection connection, string sql)
    {
        using SqliteCommand command = connection.CreateCommand();
        command.CommandText = sql;
        command.ExecuteNonQuery();
    }

    private void WriteLists(SqliteConnection connection)
    {
        using (var row = new Inserter(connection, "PERIODS", 4))
            for (int period = 1; period <= Periods; period++)
                row.Add(period, Date(FirstDay.AddMonths(period - 1)), Date(FirstDay.AddMonths(period).AddDays(-1)), period <= Periods - 3
                    ? "Y" : "N");
        using (var row = new Inserter(connection, "ACCTS", 4))
            for (int i = 0; i < Accounts.Length; i++)
                row.Add(101 + i, Accounts[i].Code, Accounts[i].Name.PadRight(30), Accounts[i].Kind);
        using (var row = new Inserter(connection, "CUST", 9))
            for (int customer = 1; customer <= customers; customer++)
                row.Add(1000 + customer, Person().PadRight(customer % 3 == 0 ? 40 : 0), $"{1 + Next(180)} {Pick(Instruments)} Lane",
                    customer % 4 == 0
                    ? "Flat " + (1 + Next(9)) : null, Pick(Towns),
                    $"QH{1 + Next(20)} {1 + Next(9)}XX", $"01632 {960000 + Next(1000)}", customer % 7 == 0 ? ""
                        : Amount(100 * (50 + Next(950))), customer % 2 == 0 ? "Y" : "N");
        using (var row = new Inserter(connection, "SUPP", 4))
            for (int supplier = 1; supplier <= suppliers; supplier++)
                row.Add(5000 + supplier, (Pick(LastNames) + " & Co").PadRight(supplier % 2 == 0 ? 40 : 0), Pick(Towns),
                    $"01632 {960000 + Next(1000)}");
    }

    private void WriteInvoices(SqliteConnection connection)
    {
        using var row = new Inserter(connection, "INV", 8);
        for (int invoice = 1; invoice <= invoices; invoice++)
        {
            DateOnly day = FirstDay.AddDays(invoice * 1800 / invoices);
            int net = 500 + Next(60_000);
            string code = invoice % 11 == 0 ? "Z" : invoice % 17 == 0 ? "E" : "S";
            row.Add("HI" + invoice.ToString("000000", CultureInfo.InvariantCulture), 1001 + Next(customers), Date(day), invoice % 23 == 0
                ? null : Date(day.AddDays(30)),
                Amount(net), Amount(code == "S" ? net / 5 : 0), code, invoice > invoices * 9 / 10 ? "O" : "P");
        }
    }

    private void WriteJournal(SqliteConnection connection, Faults faults)
    {
        using var row = new Inserter(connection, "JRNL", 8);
        int entry = 0;
        for (int voucher = 1; voucher <= vouchers; voucher++)
        {
            string number = "V" + voucher.ToString("000000", CultureInfo.InvariantCulture);
            int period = 1 + (int)((long)(voucher - 1) * Periods / vouchers);
            string day = Date(FirstDay.AddMonths(period - 1).AddDays(Next(28)));
            int net = 500 + Next(60_000), tax = net / 5;
            string narrative = $"{(voucher % 3 == 0 ? "Repair" : "Hire")} of {Pick(Instruments)}, {Pick(LastNames)}";
            if (narrative.Length > 40) narrative = narrative[..40];
            bool planted = faults == Faults.All;
            // One line more or less by a penny unbalances the voucher; the others are what demo/README.md says.
            Line(1100, net + tax + (planted && voucher == 1777 ? 1 : 0), 0);
            Line(planted && voucher == 2345 ? 4999 : voucher % 3 == 0 ? 4010 : 4000, 0, net);
            Line(2200, 0, tax);

            void Line(int account, int debit, int credit)
            {
                entry++;
                string date = planted && entry == 4321 ? "31/02/23" : day;
                string shown = planted && entry == 9877 ? "12,5O" : Amount(debit);
                object?[] cells = [entry, number, date, period, account.ToString(CultureInfo.InvariantCulture), shown, Amount(credit),
                    narrative.PadRight(voucher % 5 == 0 ? 40 : 0)];
                row.Add(cells);
                // The import of version 4 that demo/README.md tells of.
                if (entry % 5000 == 17) row.Add(cells);
            }
        }
    }

    private void WriteNotes(SqliteConnection connection)
    {
        using var row = new Inserter(connection, "NOTES", 3);
        for (int note = 1; note <= customers / 4; note++)
        {
            string reference = "C" + (1000 + note * 3).ToString(CultureInfo.InvariantCulture);
            int lines = 1 + note % 3;
            for (int line = 1; line <= lines; line++) row.Add(reference, line,
                $"{(line == 1 ? "Prefers the" : "and asks about the")} {Pick(Instruments)} for {Pick(FirstNames)},");
        }
    }

    private string Person() => $"{Pick(FirstNames)} {Pick(LastNames)}";

    private T Pick<T>(T[] from) => _chance.Pick(from);

    private static string Date(DateOnly day) => day.ToString("dd/MM/yy", CultureInfo.InvariantCulture);

    private static string Amount(int pence) => string.Create(CultureInfo.InvariantCulture, $"{pence / 100}.{pence % 100:00}");

    /// <summary>Inserts rows; texts go in as the bytes of the old code page, as the old program wrote them.</summary>
    private sealed class Inserter : IDisposable
    {
        private readonly SqliteCommand _command;

        public Inserter(SqliteConnection connection, string table, int columns)
        {
            _command = connection.CreateCommand();
            for (int i = 0; i < columns; i++) _command.Parameters.Add(new SqliteParameter($"$p{i}", DBNull.Value));
            // A blob that is cast to TEXT keeps its bytes, whatever they are.
            _command.CommandText = $"INSERT INTO {table} VALUES "
                + "(" + string.Join(", ", Enumerable.Range(0, columns)
                    .Select(i => $"CASE typeof($p{i}) WHEN 'blob' THEN CAST($p{i} AS TEXT) ELSE $p{i} END")) + ")";
        }

        public void Add(params object?[] cells)
        {
            for (int i = 0; i < cells.Length; i++) _command.Parameters[i].Value = cells[i] is string text ? CodePage.GetBytes(text)
                : cells[i] ?? DBNull.Value;
            _command.ExecuteNonQuery();
        }

        public void Dispose() => _command.Dispose();
    }
}
