// GenericUses.cs: with which types a built program uses its generic methods.
using System.Reflection;

namespace Transferra.Tests;

internal static class GenericUses
{
    private const int MethodSpecifications = 0x2B000000;

    /// <summary>The types with which generic methods are called. A program names each such use in a table of its own (ECMA-335,
    /// II.22.29).</summary>
    /// <param name="program">The program.</param>
    /// <param name="isMeant">Which methods.</param>
    public static IReadOnlyCollection<Type> Of(Module program, Func<MethodBase, bool> isMeant)
    {
        var types = new HashSet<Type>();
        for (int row = 1; ; row++)
        {
            MethodBase? used;
            try { used = program.ResolveMethod(MethodSpecifications + row); }
            catch (ArgumentOutOfRangeException) { return types; }
            catch (ArgumentException) { continue; } // used within a generic method
            if (used is { IsGenericMethod: true } && isMeant(used))
                types.UnionWith(used.GetGenericArguments().Where(type => !type.IsGenericParameter));
        }
    }
}
