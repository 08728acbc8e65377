// PlacedExpression.cs: parses and compiles expressions of descriptions, reporting mistakes at their place in the file.
using Transferra.Core.Expressions;

namespace Transferra.Core.Kits;

/// <summary>Expressions with their place.</summary>
internal static class PlacedExpression
{
    /// <summary>Parses; null when it is no expression, which is reported.</summary>
    public static Expression? Parse(PlacedText text, DescriptionErrors errors)
    {
        if (text.Value.Length == 0) return null;
        try
        {
            return ExpressionParser.Parse(text.Value);
        }
        catch (ExpressionException error)
        {
            text.Report(errors, error.Message, error.At);
            return null;
        }
    }

    /// <summary>Compiles; null when that cannot be done, which is reported, or when nobody knows the columns yet.</summary>
    public static Kernel? Compile(PlacedText text, DescriptionErrors errors, Func<Kernel> compile)
    {
        if (errors.StoreIsUnknown) return null;
        try
        {
            return compile();
        }
        catch (ExpressionException error)
        {
            text.Report(errors, error.Message, error.At);
            return null;
        }
    }
}
