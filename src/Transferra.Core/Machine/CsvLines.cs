// CsvLines.cs: reads back the lists that CsvFile.cs writes.
using System.Text;

namespace Transferra.Core.Machine;

/// <summary>Reads comma-separated values (RFC 4180, UTF-8).</summary>
public static class CsvLines
{
    /// <summary>The lines of a list, headings first.</summary>
    public static IEnumerable<string[]> Read(string path)
    {
        using var reader = new StreamReader(path);
        var cells = new List<string>();
        var cell = new StringBuilder();
        bool quoted = false;
        for (int c; (c = reader.Read()) >= 0;)
        {
            if (quoted)
            {
                if (c != '"') cell.Append((char)c);
                else if (reader.Peek() == '"') cell.Append((char)reader.Read());
                else quoted = false;
            }
            else if (c == '"') quoted = true;
            else if (c == ',') End();
            else if (c == '\n')
            {
                End();
                yield return [.. cells];
                cells.Clear();
            }
            else if (c != '\r') cell.Append((char)c);
        }

        void End()
        {
            cells.Add(CsvFile.Unguarded(cell.ToString()));
            cell.Clear();
        }
    }
}
