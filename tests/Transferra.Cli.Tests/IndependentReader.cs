// IndependentReader.cs: what is in a store, read without any of Transferra's own reading: with the engines' drivers, and for files with a
// few lines that know their layout.
// Values come as texts; what they are compared with comes from here as well, so that their form does not matter as long as different
// values have different ones.
using System.Buffers.Binary;
using System.Data.Common;
using System.Globalization;
using System.Text;
using System.Text.Json;
using Microsoft.Data.Sqlite;
using Npgsql;
using Transferra.Core.Records;
using Transferra.Tests;

namespace Transferra.Cli.Tests;

internal static class IndependentReader
{
    private const string None = "\u2205";

    /// <summary>The rows of every table, by the table's name in lower case; columns in their order, in lower case.</summary>
    public static SortedDictionary<string, (string[] Columns, List<string[]> Rows)> Read(StoreAddress store) => store.Engine switch
    {
        "sqlite" => ReadSqlite(store.Path),
        "dbf" => ReadFolder(store.Path, "*.dbf", ReadDbf),
        "delimited" => ReadFolder(store.Path, "*.csv", ReadDelimited),
        "json-lines" => ReadFolder(store.Path, "*.jsonl", ReadJsonLines),
        _ => ReadServer(store),
    };

    private static SortedDictionary<string, (string[], List<string[]>)> ReadFolder(string folder, string pattern, Func<string,
        (string[], List<string[]>)> read)
    {
        var tables = new SortedDictionary<string, (string[], List<string[]>)>(StringComparer.Ordinal);
        foreach (string file in Directory.GetFiles(folder, pattern, new EnumerationOptions { MatchCasing = MatchCasing.CaseInsensitive }))
            tables[Path.GetFileNameWithoutExtension(file).ToLowerInvariant()] = read(file);
        return tables;
    }

    private static SortedDictionary<string, (string[], List<string[]>)> ReadSqlite(string path)
    {
        using var connection = new SqliteConnection(new SqliteConnectionStringBuilder
        {
            DataSource = path,
            Mode = SqliteOpenMode.ReadOnly,
            Pooling = false
        }.ToString());
        connection.Open();
        var tables = new SortedDictionary<string, (string[], List<string[]>)>(StringComparer.Ordinal);
        foreach (string[] named in Rows(connection,
            "SELECT name FROM sqlite_schema WHERE type = 'table' AND name NOT LIKE 'sqlite\\_%' ESCAPE '\\'", Plain).Rows)
        {
            string quoted = "\"" + named[0].Replace("\"", "\"\"", StringComparison.Ordinal) + "\"";
            string[] columns = Rows(connection, $"SELECT * FROM {quoted} LIMIT 0", Plain).Columns;
            // With the class in which each value is kept.
            string all = string.Join(", ",
                columns.Select(column => $"CASE typeof(\"{column}\") WHEN 'null' THEN NULL WHEN 'blob' THEN 'blob:' || hex(\"{column}\") "
                    + $"ELSE typeof(\"{column}\") || ':' || \"{column}\" END"));
            List<string[]> rows = Rows(connection, $"SELECT {all} FROM {quoted}", Plain).Rows;
            Unscale(rows, Rows(connection,
                $"SELECT type FROM pragma_table_info('{named[0].Replace("'", "''", StringComparison.Ordinal)}') ORDER BY cid", Plain).Rows);
            tables[named[0].ToLowerInvariant()] = (Lower(columns), rows);
        }
        return tables;
    }

    // docs/types.md: a column declared DECIMAL_INT(p,s) holds units of 10^-s.
    private static void Unscale(List<string[]> rows, List<string[]> types)
    {
        for (int column = 0; column < types.Count; column++)
        {
            if (System.Text.RegularExpressions.Regex.Match(types[column][0],
                @"^DECIMAL_INT\(\d+,(\d+)\)$") is not { Success: true } scaled) continue;
            int scale = int.Parse(scaled.Groups[1].Value, CultureInfo.InvariantCulture);
            foreach (string[] row in rows.Where(row => row[column].StartsWith("integer:", StringComparison.Ordinal)))
                row[column] = "integer:" + (decimal.Parse(row[column][8..], CultureInfo.InvariantCulture) / (decimal)Math.Pow(10, scale))
                    .ToString(CultureInfo.InvariantCulture);
        }
    }

    private static SortedDictionary<string, (string[], List<string[]>)> ReadServer(StoreAddress store)
    {
        using DbConnection connection = TestServers.Connect(store);
        (string names, char quote) = store.Engine switch
        {
            "postgresql" => ("SELECT table_name, CASE table_schema WHEN 'public' THEN '' ELSE table_schema END FROM "
                + "information_schema.tables "
                + "WHERE table_schema NOT IN ('pg_catalog', 'information_schema') AND table_type = 'BASE TABLE'", '"'),
            "mariadb" => ("SELECT table_name FROM information_schema.tables WHERE table_schema = DATABASE() "
                + "AND table_type = 'BASE TABLE'", '`'),
            _ => ("SELECT TRIM(RDB$RELATION_NAME) FROM RDB$RELATIONS WHERE RDB$SYSTEM_FLAG = 0 AND RDB$VIEW_BLR IS NULL", '"'),
        };
        var tables = new SortedDictionary<string, (string[], List<string[]>)>(StringComparer.Ordinal);
        foreach (string[] named in Rows(connection, names, Plain).Rows)
        {
            string schema = named.ElementAtOrDefault(1) ?? "";
            (string[] columns, List<string[]> rows) = Rows(connection,
                "SELECT * FROM " + (schema.Length > 0 ? $"{quote}{schema}{quote}." : "") + $"{quote}{named[0]}{quote}",
                connection is NpgsqlConnection ? Plain : Typed);
            tables[(schema.Length > 0 ? schema + "." : "") + named[0].ToLowerInvariant()] = (Lower(columns), rows);
        }
        return tables;
    }

    private static string[] Lower(string[] names) => [.. names.Select(name => name.ToLowerInvariant())];

    private static (string[] Columns, List<string[]> Rows) Rows(DbConnection connection, string sql, Func<DbDataReader, int, string> value)
    {
        using DbCommand command = connection.CreateCommand();
#pragma warning disable CA2100 // statements of tests
        command.CommandText = sql;
#pragma warning restore CA2100
        if (command is NpgsqlCommand postgres) postgres.AllResultTypesAreUnknown = true; // as texts, the server's own words
        using DbDataReader reader = command.ExecuteReader();
        string[] columns = [.. Enumerable.Range(0, reader.FieldCount).Select(reader.GetName)];
        var rows = new List<string[]>();
        while (reader.Read()) rows.Add([.. Enumerable.Range(0, columns.Length).Select(i => reader.IsDBNull(i) ? None : value(reader, i))]);
        return (columns, rows);
    }

    private static string Plain(DbDataReader reader, int column) => reader.GetString(column);

    private static string Typed(DbDataReader reader, int column) => reader.GetValue(column) switch
    {
        byte[] bytes => "0x" + Convert.ToHexString(bytes),
        DateTime moment => moment.ToString("yyyy-MM-dd HH:mm:ss.ffffff", CultureInfo.InvariantCulture),
        double number => number.ToString("R", CultureInfo.InvariantCulture),
        float number => number.ToString("R", CultureInfo.InvariantCulture),
        var other => Convert.ToString(other, CultureInfo.InvariantCulture)!,
    };

    // Header of 32 bytes, 32 a field, then records of fixed length that begin with a blank, or a star when deleted. The field of type 0
    // has a bit for each value that is missing, and for each text of type V that is shorter than its field; its length then stands in its
    // last byte.
    private static (string[], List<string[]>) ReadDbf(string path)
    {
        byte[] all = File.ReadAllBytes(path);
        int records = BinaryPrimitives.ReadInt32LittleEndian(all.AsSpan(4)),
            start = BinaryPrimitives.ReadUInt16LittleEndian(all.AsSpan(8)),
            length = BinaryPrimitives.ReadUInt16LittleEndian(all.AsSpan(10));
        var fields = new List<(string Name, char Type, int At, int Bytes, int ShortBit, int NullBit)>();
        int bits = 0, place = 1, flagsAt = -1;
        for (int at = 32; all[at] != 0x0D; place += all[at + 16], at += 32)
        {
            char type = (char)all[at + 11];
            if (type == '0') flagsAt = place;
            else
                fields.Add((Encoding.ASCII.GetString(all, at, 11).Split('\0')[0].ToLowerInvariant(), type, place, all[at + 16],
                    type == 'V' ? bits++ : -1, (all[at + 18] & 2) != 0 ? bits++ : -1));
        }
        var rows = new List<string[]>();
        for (int record = start; record < start + (records * length); record += length)
        {
            if (all[record] == '*') continue;
            bool Flag(int bit) => bit >= 0 && flagsAt >= 0 && (all[record + flagsAt + (bit / 8)] & (1 << (bit % 8))) != 0;
            rows.Add([.. fields.Select(field =>
            {
                if (Flag(field.NullBit)) return None;
                int first = record + field.At, bytes = Flag(field.ShortBit) ? all[first + field.Bytes - 1] : field.Bytes;
                string text = Encoding.Latin1.GetString(all, first, bytes);
                return field.Type switch { 'V' => text, 'C' => text.TrimEnd(' '), _ => text.Trim().Length == 0 ? None : text.Trim() };
            })]);
        }
        return ([.. fields.Select(field => field.Name)], rows);
    }

    private static (string[], List<string[]>) ReadJsonLines(string path)
    {
        var columns = new List<string>();
        var rows = new List<string[]>();
        foreach (string line in File.ReadLines(path).Where(line => line.Length > 0))
        {
            using JsonDocument row = JsonDocument.Parse(line);
            if (columns.Count == 0) columns.AddRange(row.RootElement.EnumerateObject().Select(property => property.Name));
            rows.Add([.. columns.Select(column => row.RootElement.TryGetProperty(column, out JsonElement value)
                && value.ValueKind != JsonValueKind.Null ? value.ToString() : None)]);
        }
        return (Lower([.. columns]), rows);
    }

    // The form that OddOffice writes: commas, double quotes, \N for nothing.
    private static (string[], List<string[]>) ReadDelimited(string path)
    {
        string text = File.ReadAllText(path);
        var rows = new List<string[]>();
        var row = new List<string>();
        var field = new StringBuilder();
        bool quoted = false, wasQuoted = false;
        void EndField()
        {
            row.Add(!wasQuoted && field.ToString() == "\\N" ? None : field.ToString());
            field.Clear();
            wasQuoted = false;
        }

        for (int i = 0; i < text.Length; i++)
        {
            char c = text[i];
            if (quoted && c == '"' && i + 1 < text.Length && text[i + 1] == '"') field.Append(text[i++]);
            else if (c == '"') (quoted, wasQuoted) = (!quoted, true);
            else if (!quoted && c == ',') EndField();
            else if (!quoted && c is '\r' or '\n' && !quoted)
            {
                if (c == '\r') continue;
                EndField();
                rows.Add([.. row]);
                row.Clear();
            }
            else field.Append(c);
        }
        return (Lower(rows[0]), rows[1..]);
    }
}
