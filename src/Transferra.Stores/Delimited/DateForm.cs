// DateForm.cs: the date templates of delimited files, with their mistakes told in words.
using Transferra.Core.Expressions;
using Transferra.Core.Machine;
using Transferra.Core.Records;

namespace Transferra.Stores.Delimited;

internal static class DateForm
{
    /// <summary>The template, when it is one.</summary>
    /// <exception cref="TransferraException">It is none.</exception>
    public static string Checked(string template)
    {
        try
        {
            DateTemplate.Parse(template);
            return template;
        }
        catch (FormatException error)
        {
            throw new TransferraException($"the store's dates are {ValueText.Quote(template)}: {error.Message}",
                "Correct dates in office.yaml.", error);
        }
    }
}
