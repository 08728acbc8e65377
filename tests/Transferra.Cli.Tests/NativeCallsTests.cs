// NativeCallsTests.cs: that nothing is called which a program compiled to native code may not have. The native compiler tells the
// same, and more, when install.sh makes that program; that takes minutes, which every change would have to wait for.
using System.Diagnostics.CodeAnalysis;
using System.Reflection;
using Transferra.Core.Kits;
using Transferra.Demo;
using Transferra.Reports;
using Transferra.Stores;

namespace Transferra.Cli.Tests;

public sealed class NativeCallsTests
{
    // Tables of an assembly that name the methods it calls (ECMA-335, II.22.25 and II.22.29).
    private const int MemberReferences = 0x0A000000, MethodSpecifications = 0x2B000000;

    [Fact]
    public void Nothing_is_called_that_reflects_or_makes_code_while_it_runs()
    {
        Assembly[] program = [typeof(Hop).Assembly, typeof(StoreOpener).Assembly, typeof(HtmlSignOff).Assembly, typeof(DemoOffice).Assembly,
            typeof(CommandLine).Assembly];
        foreach (Assembly part in program) Assert.InRange(Called(part.ManifestModule).Count(), 100, int.MaxValue);
        Assert.Equal([], program.SelectMany(part => Called(part.ManifestModule).Where(IsRefusedNatively)
            .Select(called => $"{part.GetName().Name} calls {called.DeclaringType}.{called.Name}")));
    }

    [Fact]
    public void What_reflects_is_found() => Assert.Contains(Called(typeof(ServedProgram).Module), IsRefusedNatively);

    private static bool IsRefusedNatively(MethodBase called) => Says<RequiresUnreferencedCodeAttribute>(called)
        || Says<RequiresDynamicCodeAttribute>(called);

    private static bool Says<T>(MethodBase called) where T : Attribute => called.IsDefined(typeof(T))
        || called.DeclaringType?.IsDefined(typeof(T)) == true;

    // Without those of its own, and those of types that are only known within another.
    private static IEnumerable<MethodBase> Called(Module module) => ((int[])[MemberReferences, MethodSpecifications]).SelectMany(table =>
        Enumerable.Range(1, int.MaxValue - table - 1).Select(row => Resolved(module, table + row)).TakeWhile(entry => !entry.IsEnd)
            .Select(entry => entry.Method).OfType<MethodBase>());

    private static (MethodBase? Method, bool IsEnd) Resolved(Module module, int token)
    {
        try { return (module.ResolveMember(token) as MethodBase, false); }
        catch (ArgumentOutOfRangeException) { return (null, true); }
        catch (ArgumentException) { return (null, false); }
        catch (BadImageFormatException) { return (null, false); }
    }
}
