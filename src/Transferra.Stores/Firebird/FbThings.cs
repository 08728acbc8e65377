// FbThings.cs: what a Firebird database has beside its rows, one by one, in words that can be compared, and some of it as statements.
// Source: Firebird Language Reference, appendix "System Tables".
using System.Globalization;
using System.Text.RegularExpressions;
using Transferra.Core.Records;

namespace Transferra.Stores.Firebird;

/// <param name="ask">Asks in the store's snapshot.</param>
internal sealed partial class FbThings(Func<string, IReadOnlyList<IReadOnlyList<string?>>> ask)
{
    private const string User = "COALESCE({0}.RDB$SYSTEM_FLAG, 0) = 0", NoName = "(INTEG|RDB\\$[A-Z_]*)_?[0-9]+";

    private static string Of(string alias) => User.Replace("{0}", alias, StringComparison.Ordinal);

    private const string OfOwnTable = "EXISTS (SELECT 1 FROM RDB$RELATIONS o WHERE o.RDB$RELATION_NAME = c.RDB$RELATION_NAME AND "
        + "COALESCE(o.RDB$SYSTEM_FLAG, 0) = 0)";

    // Each gives kind, name, table, text.
    private static readonly string[] Queries =
    [
        $"SELECT 'table', TRIM(r.RDB$RELATION_NAME), TRIM(r.RDB$RELATION_NAME), COALESCE(r.RDB$RELATION_TYPE, 0) || ' ' || "
            + $"COALESCE(r.RDB$EXTERNAL_FILE, '') FROM RDB$RELATIONS r WHERE {Of("r")} AND r.RDB$VIEW_BLR IS NULL",
        "SELECT 'view', TRIM(r.RDB$RELATION_NAME), '', r.RDB$VIEW_SOURCE FROM "
            + $"RDB$RELATIONS r WHERE {Of("r")} AND r.RDB$VIEW_BLR IS NOT NULL",
        "SELECT 'column', TRIM(f.RDB$RELATION_NAME) || '.' || TRIM(f.RDB$FIELD_NAME), TRIM(f.RDB$RELATION_NAME), "
            + "IIF(f.RDB$FIELD_SOURCE STARTING WITH 'RDB$', '', TRIM(f.RDB$FIELD_SOURCE) || ' ') || t.RDB$FIELD_TYPE || ' ' || "
            + "COALESCE(t.RDB$FIELD_SUB_TYPE, 0) || ' ' || COALESCE(t.RDB$FIELD_LENGTH, 0) || ' ' || "
            + "COALESCE(t.RDB$CHARACTER_LENGTH, 0) || ' ' || COALESCE(t.RDB$FIELD_PRECISION, 0) || ' ' || "
            + "COALESCE(t.RDB$FIELD_SCALE, 0) || ' ' || COALESCE(t.RDB$CHARACTER_SET_ID, 0) || ' ' || COALESCE(f.RDB$COLLATION_ID, "
            + "t.RDB$COLLATION_ID, 0) || ' ' || COALESCE(t.RDB$DIMENSIONS, 0) || ' ' || COALESCE(f.RDB$IDENTITY_TYPE, -1) FROM "
            + $"RDB$RELATION_FIELDS f JOIN RDB$FIELDS t ON t.RDB$FIELD_NAME = f.RDB$FIELD_SOURCE WHERE {Of("f")}",
        "SELECT 'computed column', TRIM(f.RDB$RELATION_NAME) || '.' || TRIM(f.RDB$FIELD_NAME), TRIM(f.RDB$RELATION_NAME), "
            + "t.RDB$COMPUTED_SOURCE FROM RDB$RELATION_FIELDS f JOIN RDB$FIELDS t ON t.RDB$FIELD_NAME = f.RDB$FIELD_SOURCE WHERE "
            + $"{Of("f")} AND t.RDB$COMPUTED_BLR IS NOT NULL",
        "SELECT 'default', TRIM(f.RDB$RELATION_NAME) || '.' || TRIM(f.RDB$FIELD_NAME), TRIM(f.RDB$RELATION_NAME), f.RDB$DEFAULT_SOURCE "
            + $"FROM RDB$RELATION_FIELDS f WHERE {Of("f")} AND f.RDB$DEFAULT_SOURCE IS NOT NULL",
        "SELECT 'not null', TRIM(f.RDB$RELATION_NAME) || '.' || TRIM(f.RDB$FIELD_NAME), TRIM(f.RDB$RELATION_NAME), 'NOT NULL' FROM "
            + $"RDB$RELATION_FIELDS f WHERE {Of("f")} AND f.RDB$NULL_FLAG = 1",
        "SELECT 'domain', TRIM(t.RDB$FIELD_NAME), '', t.RDB$FIELD_TYPE || ' ' || COALESCE(t.RDB$FIELD_SUB_TYPE, 0) || ' ' || "
            + "COALESCE(t.RDB$FIELD_LENGTH, 0) || ' ' || COALESCE(t.RDB$FIELD_SCALE, 0) || ' ' || COALESCE(t.RDB$NULL_FLAG, "
            + "0) || ' ' || COALESCE(t.RDB$DEFAULT_SOURCE, '') || ' ' || COALESCE(t.RDB$VALIDATION_SOURCE, '') || ' ' || "
            + "COALESCE(t.RDB$CHARACTER_SET_ID, 0) || ' ' || COALESCE(t.RDB$COLLATION_ID, 0) FROM RDB$FIELDS t WHERE "
            + $"{Of("t")} AND t.RDB$FIELD_NAME NOT STARTING WITH 'RDB$'",
        "SELECT LOWER(TRIM(c.RDB$CONSTRAINT_TYPE)), TRIM(c.RDB$RELATION_NAME) || '.' || TRIM(c.RDB$CONSTRAINT_NAME), "
            + "TRIM(c.RDB$RELATION_NAME), (SELECT LIST(TRIM(s.RDB$FIELD_NAME), ',') FROM (SELECT * FROM RDB$INDEX_SEGMENTS ORDER BY "
            + "RDB$FIELD_POSITION) s WHERE s.RDB$INDEX_NAME = c.RDB$INDEX_NAME) || COALESCE((SELECT ' to ' || TRIM(p.RDB$RELATION_NAME) || "
            + "' ' || TRIM(x.RDB$UPDATE_RULE) || ' ' || TRIM(x.RDB$DELETE_RULE) FROM RDB$REF_CONSTRAINTS x JOIN RDB$RELATION_CONSTRAINTS p "
            + "ON p.RDB$CONSTRAINT_NAME = x.RDB$CONST_NAME_UQ WHERE x.RDB$CONSTRAINT_NAME = c.RDB$CONSTRAINT_NAME), '') FROM "
            + $"RDB$RELATION_CONSTRAINTS c WHERE c.RDB$CONSTRAINT_TYPE IN ('PRIMARY KEY', 'UNIQUE', 'FOREIGN KEY') AND {OfOwnTable}",
        "SELECT 'check', TRIM(c.RDB$RELATION_NAME) || '.' || TRIM(c.RDB$CONSTRAINT_NAME), TRIM(c.RDB$RELATION_NAME), (SELECT FIRST 1 "
            + "t.RDB$TRIGGER_SOURCE FROM RDB$CHECK_CONSTRAINTS k JOIN RDB$TRIGGERS t ON t.RDB$TRIGGER_NAME = k.RDB$TRIGGER_NAME WHERE "
            + "k.RDB$CONSTRAINT_NAME = c.RDB$CONSTRAINT_NAME) FROM RDB$RELATION_CONSTRAINTS c WHERE c.RDB$CONSTRAINT_TYPE = 'CHECK'",
        "SELECT 'index', TRIM(i.RDB$INDEX_NAME), TRIM(i.RDB$RELATION_NAME), COALESCE(i.RDB$UNIQUE_FLAG, 0) || ' ' || "
            + "COALESCE(i.RDB$INDEX_TYPE, 0) || ' ' || COALESCE(i.RDB$INDEX_INACTIVE, 0) || ' ' || "
            + "COALESCE(i.RDB$EXPRESSION_SOURCE, (SELECT LIST(TRIM(s.RDB$FIELD_NAME), ',') FROM (SELECT * FROM RDB$INDEX_SEGMENTS "
            + $"ORDER BY RDB$FIELD_POSITION) s WHERE s.RDB$INDEX_NAME = i.RDB$INDEX_NAME), '') FROM RDB$INDICES i WHERE {Of("i")} "
            + "AND NOT EXISTS (SELECT 1 FROM RDB$RELATION_CONSTRAINTS c WHERE c.RDB$INDEX_NAME = i.RDB$INDEX_NAME)",
        "SELECT 'trigger', TRIM(t.RDB$TRIGGER_NAME), TRIM(COALESCE(t.RDB$RELATION_NAME, '')), t.RDB$TRIGGER_TYPE || ' ' || "
            + "t.RDB$TRIGGER_SEQUENCE || ' ' || COALESCE(t.RDB$TRIGGER_INACTIVE, 0) || ' ' || COALESCE(t.RDB$TRIGGER_SOURCE, '') FROM "
            + $"RDB$TRIGGERS t WHERE {Of("t")}",
        $"SELECT 'procedure', TRIM(p.RDB$PROCEDURE_NAME), '', p.RDB$PROCEDURE_SOURCE FROM RDB$PROCEDURES p WHERE {Of("p")} AND "
            + $"p.RDB$PACKAGE_NAME IS NULL",
        $"SELECT 'function', TRIM(p.RDB$FUNCTION_NAME), '', COALESCE(p.RDB$FUNCTION_SOURCE, p.RDB$ENTRYPOINT, '') FROM RDB$FUNCTIONS p "
            + $"WHERE {Of("p")} AND p.RDB$PACKAGE_NAME IS NULL",
        $"SELECT 'package', TRIM(p.RDB$PACKAGE_NAME), '', p.RDB$PACKAGE_HEADER_SOURCE || COALESCE(p.RDB$PACKAGE_BODY_SOURCE, '') FROM "
            + $"RDB$PACKAGES p WHERE {Of("p")}",
        $"SELECT 'exception', TRIM(e.RDB$EXCEPTION_NAME), '', e.RDB$MESSAGE FROM RDB$EXCEPTIONS e WHERE {Of("e")}",
        "SELECT 'generator', TRIM(g.RDB$GENERATOR_NAME), '', COALESCE(g.RDB$GENERATOR_INCREMENT, "
            + $"1) || '' FROM RDB$GENERATORS g WHERE {Of("g")}",
        "SELECT 'role', TRIM(r.RDB$ROLE_NAME), '', TRIM(r.RDB$OWNER_NAME) FROM RDB$ROLES r WHERE COALESCE(r.RDB$SYSTEM_FLAG, 0) = 0",
        "SELECT 'right', TRIM(p.RDB$USER) || ' ' || TRIM(p.RDB$PRIVILEGE) || ' ' || TRIM(p.RDB$RELATION_NAME) || "
            + "COALESCE('.' || TRIM(p.RDB$FIELD_NAME), ''), '', COALESCE(p.RDB$GRANT_OPTION, 0) || ' ' || p.RDB$USER_TYPE "
            + "|| ' ' || p.RDB$OBJECT_TYPE FROM RDB$USER_PRIVILEGES p WHERE p.RDB$RELATION_NAME NOT STARTING WITH 'RDB$' "
            + "AND p.RDB$RELATION_NAME NOT STARTING WITH 'MON$' AND p.RDB$RELATION_NAME NOT STARTING WITH 'SEC$' AND "
            + "p.RDB$RELATION_NAME NOT STARTING WITH 'SQL$' AND p.RDB$USER NOT STARTING WITH 'RDB$'",
        "SELECT 'comment', TRIM(r.RDB$RELATION_NAME), '', r.RDB$DESCRIPTION FROM "
            + $"RDB$RELATIONS r WHERE {Of("r")} AND r.RDB$DESCRIPTION IS NOT NULL",
        "SELECT 'comment', TRIM(f.RDB$RELATION_NAME) || '.' || TRIM(f.RDB$FIELD_NAME), TRIM(f.RDB$RELATION_NAME), f.RDB$DESCRIPTION FROM "
            + $"RDB$RELATION_FIELDS f WHERE {Of("f")} AND f.RDB$DESCRIPTION IS NOT NULL",
        "SELECT 'collation', TRIM(c.RDB$COLLATION_NAME), '', COALESCE(c.RDB$BASE_COLLATION_NAME, '') || ' ' || "
            + $"COALESCE(c.RDB$SPECIFIC_ATTRIBUTES, '') FROM RDB$COLLATIONS c WHERE {Of("c")}",
    ];

    /// <summary>All of them. A name that the engine gave by itself is not compared.</summary>
    public IReadOnlyList<StoreDeclaration> All() =>
    [
        .. Queries.SelectMany(query => ask(query)).Select(row => new StoreDeclaration(row[0]!, Given().Replace(row[1]!, "*"), row[2] ?? "",
            (row[3] ?? "").Trim())).Concat(Positions())
            .OrderBy(thing => thing.Kind, StringComparer.Ordinal).ThenBy(thing => thing.Name, StringComparer.Ordinal)
            .ThenBy(thing => thing.Text, StringComparer.Ordinal)
    ];

    private IEnumerable<StoreDeclaration> Positions() =>
        ask($"SELECT TRIM(g.RDB$GENERATOR_NAME) FROM RDB$GENERATORS g WHERE {Of("g")} ORDER BY 1").Select(row => new StoreDeclaration(
            "counter", row[0]!, "", ask($"SELECT GEN_ID(\"{row[0]}\", 0) FROM RDB$DATABASE")[0][0] ?? ""));

    [GeneratedRegex(NoName, RegexOptions.CultureInvariant)]
    private static partial Regex Given();

    /// <summary>When a trigger of a table runs, in the words of its statement (bits of RDB$TRIGGER_TYPE).</summary>
    public static string When(int type)
    {
        var words = new List<string>();
        int code = type + 1;
        for (int shift = 1; shift <= 5; shift += 2)
            switch (code >> shift & 3)
            {
                case 1: words.Add("INSERT"); break;
                case 2: words.Add("UPDATE"); break;
                case 3: words.Add("DELETE"); break;
            }
        return ((code & 1) == 0 ? "BEFORE " : "AFTER ") + string.Join(" OR ", words);
    }

    /// <summary>Statements that make a view again, with who may use it.</summary>
    public static IEnumerable<string> ViewStatements(string name, Func<string, List<string?[]>> ask, Func<string, string> quote)
    {
        string literal = FbLink.Literal(name);
        string columns = string.Join(", ", ask("SELECT TRIM(RDB$FIELD_NAME) FROM RDB$RELATION_FIELDS WHERE RDB$RELATION_NAME = "
            + $"{literal} ORDER BY RDB$FIELD_POSITION").Select(row => quote(row[0]!)));
        yield return $"CREATE VIEW {quote(name)} ({columns}) AS "
            + ask($"SELECT RDB$VIEW_SOURCE FROM RDB$RELATIONS WHERE RDB$RELATION_NAME = {literal}")[0][0]!.Trim();
        foreach (string?[] right in ask("SELECT TRIM(RDB$USER), TRIM(RDB$PRIVILEGE), RDB$GRANT_OPTION FROM RDB$USER_PRIVILEGES WHERE "
            + $"RDB$RELATION_NAME = {literal} AND RDB$FIELD_NAME IS NULL AND RDB$USER_TYPE = 8 AND RDB$USER <> CURRENT_USER"))
            yield return string.Create(CultureInfo.InvariantCulture, $"GRANT {right[1] switch
            {
                "S" => "SELECT",
                "I" => "INSERT",
                "U" => "UPDATE",
                "D" => "DELETE",
                _ => "REFERENCES"
            }} ON {quote(name)} TO {(right[0] == "PUBLIC" ? "PUBLIC" : quote(right[0]!))}{(right[2] == "1" ? " WITH GRANT OPTION" : "")}");
    }
}
