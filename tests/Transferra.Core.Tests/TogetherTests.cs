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

    [Fact]
    public void Of_little_one_comes_after_the_other_on_the_same_thread()
    {
        var said = new List<(int Thread, int What)>();
        int say(int what)
        {
            said.Add((Environment.CurrentManagedThreadId, what));
            return what;
        }
        Assert.Equal((1, 2), Together.Do(() => say(1), () => say(2), isLittle: true));
        Assert.Equal([(Environment.CurrentManagedThreadId, 1), (Environment.CurrentManagedThreadId, 2)], said);
    }
}
