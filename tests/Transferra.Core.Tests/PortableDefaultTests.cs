using Transferra.Core.Records;

namespace Transferra.Core.Tests;

/// <summary>Defaults as the four engines write them, in words that all of them share, or none.</summary>
public sealed class PortableDefaultTests
{
    [Theory]
    [InlineData("0", "INTEGER", "0")]
    [InlineData("'-1'::integer", "INTEGER", "-1")] // PostgreSQL writes negative numbers so
    [InlineData("(-1)", "INTEGER", "-1")]
    [InlineData("0.05", "DECIMAL(9,2)", "0.05")]
    [InlineData("0.05::numeric(9,2)", "DECIMAL(9,2)", "0.05")]
    [InlineData("'it''s'", "VARCHAR(9)", "'it''s'")]
    [InlineData("'x'::character varying", "VARCHAR(9)", "'x'")]
    [InlineData("('x'::character varying)::text", "TEXT", "'x'")]
    [InlineData("true", "BOOLEAN", "TRUE")]
    [InlineData("0", "BOOLEAN", "FALSE")]
    [InlineData("'2024-02-29'::date", "DATE", "'2024-02-29'")]
    [InlineData("curdate()", "DATE", "CURRENT_DATE")]
    [InlineData("'TODAY'", "DATE", "CURRENT_DATE")]
    [InlineData("now()", "TIMESTAMP", "CURRENT_TIMESTAMP")]
    [InlineData("current_timestamp()", "TIMESTAMP", "CURRENT_TIMESTAMP")]
    [InlineData("'2024-02-29 12:00:00'", "TIMESTAMP", "'2024-02-29 12:00:00'")]
    [InlineData(null, "INTEGER", null)]
    [InlineData("nextval('s'::regclass)", "INTEGER", null)]
    [InlineData("1 + 1", "INTEGER", null)]
    [InlineData("(1) + (2)", "INTEGER", null)]
    [InlineData("abs('x')", "INTEGER", null)]
    [InlineData("'a\\\\b'", "VARCHAR(9)", null)] // what a backslash means differs
    [InlineData("('a' || 'b')", "TEXT", null)]
    [InlineData("CURRENT_USER", "VARCHAR(31)", null)]
    [InlineData("'29.02.2024'", "DATE", null)]
    [InlineData("'now'", "DATE", null)]
    [InlineData("'x'", "BLOB", null)]
    [InlineData("NULL", "INTEGER", null)]
    public void In_shared_words(string? text, string type, string? expected)
    {
        Assert.True(FieldType.TryParse(type, out FieldType known));
        Assert.Equal(expected, PortableDefault.Of(text, known));
    }
}
