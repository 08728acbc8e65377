using Transferra.Core.Records;

namespace Transferra.Core.Tests;

public class ArchitectureTests
{
    [Fact]
    public void Core_refers_to_neither_our_projects_nor_a_console_nor_a_driver() =>
        Assert.DoesNotContain(typeof(FieldType).Assembly.GetReferencedAssemblies(), name =>
        name.Name is "System.Console" or "Spectre.Console" or "System.CommandLine" || name.Name!.StartsWith("Transferra.",
            StringComparison.Ordinal)
        || name.Name.Contains("Sqlite", StringComparison.OrdinalIgnoreCase) || name.Name == "System.Data.Common");

    [Fact]
    public void Money_never_passes_through_a_double() => Assert.DoesNotContain(typeof(DecimalText).GetMethods()
        .SelectMany(method => method.GetParameters()), parameter =>
        parameter.ParameterType == typeof(double) || parameter.ParameterType == typeof(float));
}
