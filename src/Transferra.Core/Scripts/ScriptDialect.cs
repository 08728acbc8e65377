// ScriptDialect.cs: whose rules a script follows.
using System.Text.Json.Serialization;
using Transferra.Core.Machine;

namespace Transferra.Core.Scripts;

/// <summary>The engine that a script is written for.</summary>
[JsonConverter(typeof(InWords<ScriptDialect>))]
public enum ScriptDialect
{
    /// <summary>SQLite.</summary>
    Sqlite,
    /// <summary>PostgreSQL.</summary>
    Postgresql,
    /// <summary>MariaDB and MySQL.</summary>
    Mariadb,
    /// <summary>Firebird.</summary>
    Firebird,
}

/// <summary>Finds them.</summary>
public static class ScriptDialects
{
    /// <summary>The dialect of an engine, as office.yaml names it; null when it runs no scripts.</summary>
    public static ScriptDialect? Of(string engine) => engine switch
    {
        "sqlite" => ScriptDialect.Sqlite,
        "postgresql" => ScriptDialect.Postgresql,
        "mariadb" => ScriptDialect.Mariadb,
        "firebird" => ScriptDialect.Firebird,
        _ => null,
    };
}
