using Transferra.Core.Machine;
using Transferra.Tests;

namespace Transferra.Cli.Tests;

public sealed class CliJsonTests
{
    [Fact]
    public void Whatever_a_command_answers_is_known_when_the_program_is_built()
    {
        IReadOnlyCollection<Type> answered = GenericUses.Of(typeof(Session).Module, used => used.DeclaringType == typeof(JsonFacts)
            || (used.DeclaringType == typeof(Session) && used.Name == nameof(Session.Answer))
            || (used.DeclaringType == typeof(CommandGuard) && used.Name.Contains("Failed", StringComparison.Ordinal)));
        Assert.True(answered.Count > 30, $"only {answered.Count} types were found");
        Assert.Empty(answered.Where(type => CliJson.Form.GetTypeInfo(type) is null).Select(type => type.ToString()));
    }
}
