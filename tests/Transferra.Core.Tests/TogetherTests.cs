using Transferra.Core.Machine;

namespace Transferra.Core.Tests;

/// <summary>Work side by side ends together, also when some of it fails.</summary>
public sealed class TogetherTests
{
    [Fact]
    public void Both_results_come_back_and_both_run_at_once()
    {
        using var begun = new ManualResetEventSlim();
        Assert.Equal((1, "two"), Together.Do(() =>
        {
            begun.Set();
            return 1;
        }, () =>
        {
            Assert.True(begun.Wait(TimeSpan.FromSeconds(60)));
            return "two";
        }));
    }

    [Theory]
    [InlineData(true)]
    [InlineData(false)]
    public void Whichever_fails_the_other_has_ended_before_the_failure_is_told(bool firstFails)
    {
        bool ended = false;
        int slow()
        {
            Thread.Sleep(200);
            ended = true;
            return 1;
        }
        int failing() => throw new InvalidOperationException("fails");
        Assert.Throws<InvalidOperationException>(() => Together.Do<int, int>(firstFails ? failing : slow, firstFails ? slow : failing));
        Assert.True(ended);
    }
}
