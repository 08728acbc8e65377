using Transferra.Core.Scripts;

namespace Transferra.Core.Tests;

/// <summary>Where statements of a script end, by each engine's own rules.</summary>
public sealed class ScriptReaderTests
{
    private const ScriptDialect Sqlite = ScriptDialect.Sqlite, Pg = ScriptDialect.Postgresql, Maria = ScriptDialect.Mariadb,
        Fb = ScriptDialect.Firebird;

    private static string[] Read(ScriptDialect dialect, string script) =>
        [.. new ScriptReader(new StringReader(script), dialect).Statements().Select(statement => statement.Text)];

    [Theory]
    // in every dialect
    [InlineData(Sqlite, "A; B;C", "A|B|C")]
    [InlineData(Pg, ";;A;;", "A")]
    [InlineData(Maria, "", "")]
    [InlineData(Fb, "-- only a comment\n", "")]
    [InlineData(Pg, "A ';' \"b;\" ; B 'it''s; so'", "A ';' \"b;\"|B 'it''s; so'")]
    [InlineData(Sqlite, "A -- ; not here\nB; C /* ; nor ' here */ D", "A  \nB|C   D")]
    // SQLite: brackets and ticks are names, comments do not nest, a trigger ends with its END
    [InlineData(Sqlite, "A [;] `;`; B /* /* */; C", "A [;] `;`|B|C")]
    [InlineData(Sqlite, "CREATE TRIGGER t AFTER INSERT ON a BEGIN UPDATE b SET c = CASE WHEN 1 THEN 2 END; DELETE FROM d; END; B;",
        "CREATE TRIGGER t AFTER INSERT ON a BEGIN UPDATE b SET c = CASE WHEN 1 THEN 2 END; DELETE FROM d; END|B")]
    [InlineData(Sqlite, "create temp trigger t begin a; end ; b", "create temp trigger t begin a; end|b")]
    [InlineData(Sqlite, "CREATE TABLE trigger_log (a); B", "CREATE TABLE trigger_log (a)|B")]
    [InlineData(Sqlite, "BEGIN; A; END; B", "BEGIN|A|END|B")]
    // PostgreSQL: dollars, nested comments, brackets, bodies of the SQL standard, E-strings
    [InlineData(Pg, "CREATE FUNCTION f() AS $$ a; b; $$ LANGUAGE sql; B", "CREATE FUNCTION f() AS $$ a; b; $$ LANGUAGE sql|B")]
    [InlineData(Pg, "DO $x$ a; $$ b; $$ ; $x$; B", "DO $x$ a; $$ b; $$ ; $x$|B")]
    [InlineData(Pg, "A $1; B a$b$c; C", "A $1|B a$b$c|C")]
    [InlineData(Pg, "A /* 1 /* 2; */ ; */; B", "A|B")]
    [InlineData(Pg, "CREATE RULE r AS ON INSERT TO t DO ALSO (a; b); B", "CREATE RULE r AS ON INSERT TO t DO ALSO (a; b)|B")]
    [InlineData(Pg, "CREATE OR REPLACE FUNCTION f() RETURNS int BEGIN ATOMIC SELECT CASE WHEN a THEN 1 END; SELECT 2; END; B",
        "CREATE OR REPLACE FUNCTION f() RETURNS int BEGIN ATOMIC SELECT CASE WHEN a THEN 1 END; SELECT 2; END|B")]
    [InlineData(Pg, "BEGIN; A; COMMIT; END;", "BEGIN|A|COMMIT|END")]
    [InlineData(Pg, @"A E'\'; x'; B 'c\'; C", @"A E'\'; x'|B 'c\'|C")]
    // MariaDB: backslashes, two dashes only with a blank, #, what is run in comments, DELIMITER
    [InlineData(Maria, @"A '\'; x' ""\""; y""; B", @"A '\'; x' ""\""; y""|B")]
    [InlineData(Maria, "A 5--3; B -- c;\nD; E # f;\nG", "A 5--3|B  \nD|E  \nG")]
    [InlineData(Maria, "/*!40101 SET NAMES utf8 */; /* not; this */ B", "/*!40101 SET NAMES utf8 */|B")]
    [InlineData(Maria, "DELIMITER //\nCREATE PROCEDURE p() BEGIN a; b; END//\nDELIMITER ;\nB; C", "CREATE PROCEDURE p() BEGIN a; b; "
        + "END|B|C")]
    [InlineData(Maria, "delimiter $$\nCREATE FUNCTION f() BEGIN a; END$$\nB $$\ndelimiter ;\nC", "CREATE FUNCTION f() BEGIN a; END|B|C")]
    [InlineData(Maria, "A `;``` ; B", "A `;```|B")]
    // Firebird: SET TERM, other quotes, what is for its own client
    [InlineData(Fb, "SET TERM ^ ;\nCREATE TRIGGER t AS BEGIN a; b; END^\nSET TERM ; ^\nB;", "CREATE TRIGGER t AS BEGIN a; b; END|B")]
    [InlineData(Fb, "SET TERM !! ;\nA; !! B!!\nset term ;!!\nC; D", "A;|B|C|D")]
    [InlineData(Fb, "A q'{it's; so}'; B Q'x;x'; C", "A q'{it's; so}'|B Q'x;x'|C")]
    [InlineData(Fb, "SET NAMES UTF8; SET SQL DIALECT 3; SET AUTODDL ON; A; SET GENERATOR g TO 5;", "A|SET GENERATOR g TO 5")]
    public void Statements_end_where_the_engine_says(ScriptDialect dialect, string script, string expected) =>
        Assert.Equal(expected, string.Join('|', Read(dialect, script)));

    [Theory]
    [InlineData(Pg, "A;\n\\connect other\n", 2, "a command of the engine's own client: \\connect other")]
    [InlineData(Maria, "A;\nsource b.sql\n", 2, "source b.sql")]
    [InlineData(Sqlite, ".read b.sql", 1, ".read b.sql")]
    [InlineData(Pg, "A;\nB 'x;\n\n", 2, "within a text or name that ' would end")]
    [InlineData(Pg, "A;\n\nDO $x$ b; $$\n", 3, "within a text that $x$ would end")]
    [InlineData(Maria, "A; /* b", 1, "within a comment")]
    [InlineData(Sqlite, "A;\nCREATE TRIGGER t BEGIN a;\nB;", 2, "within the statement that begins here: CREATE TRIGGER t")]
    [InlineData(Pg, "A (b; c", 1, "within the statement that begins here")]
    [InlineData(Fb, "A q'{x'", 1, "within a text that }' would end")]
    public void What_cannot_be_taken_apart_is_told_with_its_line(ScriptDialect dialect, string script, int line, string what)
    {
        var mistake = Assert.Throws<ScriptMistakeException>(() => Read(dialect, script));
        Assert.Equal(line, mistake.Line);
        Assert.Contains(what, mistake.What, StringComparison.Ordinal);
    }

    [Fact]
    public void Each_statement_knows_its_line() => Assert.Equal([1, 2, 5, 6], new ScriptReader(
        new StringReader("A;\n B\n;\n-- comment\n C; /* \n */ D"), Pg).Statements().Select(statement => statement.Line));

    [Fact]
    public void A_long_script_needs_no_more_memory_than_its_longest_statement()
    {
        long count = 0;
        var early = new List<WeakReference>();
        foreach (ScriptStatement statement in new ScriptReader(new Endless(40_000_000), Maria).Statements())
        {
            if (count++ < 1000) early.Add(new WeakReference(statement));
            Assert.Equal("INSERT INTO t VALUES ('x;y')", statement.Text);
            if (count == 1_000_000)
            {
                // Nothing holds what was given out before.
                GC.Collect();
                Assert.DoesNotContain(early, given => given.IsAlive);
            }
        }
        Assert.True(count > 1_200_000);
    }

    // A script of so many characters, made as it is read.
    private sealed class Endless(long characters) : TextReader
    {
        private const string Line = "INSERT INTO t VALUES ('x;y');\n";
        private long _at;

        public override int Read(char[] buffer, int index, int count)
        {
            int given = 0;
            while (given < count && _at < characters) buffer[index + given++] = Line[(int)(_at++ % Line.Length)];
            if (_at < characters) return given;
            while (given < count && _at % Line.Length != 0) buffer[index + given++] = Line[(int)(_at++ % Line.Length)];
            return given;
        }
    }

    [Theory]
    [InlineData(Sqlite, "ATTACH 'a.db' AS x", false)]
    [InlineData(Sqlite, "vacuum into 'x'", false)]
    [InlineData(Sqlite, "VACUUM", true)]
    [InlineData(Pg, "DROP DATABASE IF EXISTS books", false)]
    [InlineData(Pg, "ALTER SYSTEM SET x = 1", false)]
    [InlineData(Pg, "CREATE ROLE x", false)]
    [InlineData(Pg, "CREATE SCHEMA x", true)]
    [InlineData(Maria, "USE books", false)]
    [InlineData(Maria, "INSERT INTO `books`.t VALUES (1)", false)]
    [InlineData(Maria, "UPDATE t, Books . u SET a = 1", false)]
    [InlineData(Maria, "INSERT INTO mybooks.t VALUES (1)", true)]
    [InlineData(Maria, "SELECT books FROM t", true)]
    [InlineData(Maria, "CREATE SCHEMA IF NOT EXISTS x", false)]
    [InlineData(Maria, "CREATE OR REPLACE VIEW user AS SELECT 1", true)]
    [InlineData(Maria, "SET GLOBAL sql_mode = ''", false)]
    [InlineData(Fb, "CONNECT 'a.fdb'", false)]
    [InlineData(Fb, "INPUT 'b.sql'", false)]
    [InlineData(Fb, "CREATE TABLE connect_ (a INTEGER)", true)]
    public void What_would_reach_beyond_the_copy_is_seen(ScriptDialect dialect, string statement, bool isRun) =>
        Assert.Equal(isRun, new ScriptGuard(dialect, ["other", "books"]).WhyNot(statement) is null);
}
