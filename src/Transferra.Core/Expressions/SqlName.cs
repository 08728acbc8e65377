// SqlName.cs: a column's name as an expression writes it.
namespace Transferra.Core.Expressions;

internal static class SqlName
{
    /// <summary>Plain where that means the column, in double quotation marks otherwise.</summary>
    public static string Of(string name)
    {
        try
        {
            if (ExpressionParser.Parse(name) is ColumnReference { Lookup: null } plain && plain.Name == name
                && !name.Contains('"', StringComparison.Ordinal)) return name;
        }
        catch (ExpressionException) { /* then it is quoted */ }
        return "\"" + name.Replace("\"", "\"\"", StringComparison.Ordinal) + "\"";
    }
}
