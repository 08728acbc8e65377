// TextPages.cs: the code page of a store's text, and of the tables that are in another one.
// Why one text for all: whoever opens a store is told one thing, sets keep it, and two versions are in the same pages when it is the same.
// Form: the page of all tables ("" for UTF-8), then ";TABLE=PAGE" for each of another, its name in percent encoding (RFC 3986).
using System.Text;

namespace Transferra.Core.Records;

/// <summary>Puts code pages of a store together and takes them apart.</summary>
public static class TextPages
{
    private const string Utf8 = "utf-8";

    /// <summary>Whether a name is one that a table may have: a code page, or utf-8.</summary>
    public static bool IsKnown(string page) => page == Utf8 || TextEncodings.IsKnown(page);

    /// <summary>The code pages of a store.</summary>
    /// <param name="page">That of all tables; null for UTF-8.</param>
    /// <param name="tables">Tables that are in another one.</param>
    /// <returns>Null when all is UTF-8.</returns>
    public static string? Of(string? page, IEnumerable<(string Table, string Page)> tables)
    {
        string more = string.Concat(tables.DistinctBy(table => table.Table, StringComparer.OrdinalIgnoreCase).OrderBy(table => table.Table,
            StringComparer.OrdinalIgnoreCase).Select(table => $";{Uri.EscapeDataString(table.Table)}={table.Page}"));
        return more.Length == 0 ? page : page + more;
    }

    /// <summary>The code page of all tables that are not in one of their own; null for UTF-8.</summary>
    public static string? OfAll(string? pages) => pages?.Split(';')[0] is { Length: > 0 } page ? page : null;

    /// <summary>The code page of a table; null for UTF-8.</summary>
    public static string? OfTable(string? pages, string table)
    {
        foreach (string part in pages?.Split(';').Skip(1) ?? [])
            if (part.Split('=') is [var name, var page] && string.Equals(Uri.UnescapeDataString(name), table,
                StringComparison.OrdinalIgnoreCase)) return page == Utf8 ? null : page;
        return OfAll(pages);
    }

    /// <summary>The encoding of a table's text; null for UTF-8.</summary>
    public static Encoding? EncodingOf(string? pages, string table) => OfTable(pages, table) is { } page ? TextEncodings.ByName(page)
        : null;

    /// <summary>What decodes a table's text; null for UTF-8.</summary>
    public static TextDecoder? DecoderOf(string? pages, string table) => OfTable(pages, table) is { } page ? new TextDecoder(page) : null;
}
