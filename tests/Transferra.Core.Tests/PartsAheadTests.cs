using Transferra.Core.Machine;

namespace Transferra.Core.Tests;

public sealed class PartsAheadTests
{
    [Theory]
    [InlineData(0)]
    [InlineData(1)]
    [InlineData(3)]
    [InlineData(4)]
    [InlineData(257)]
    public void All_parts_come_in_their_order_and_few_of_them_wait(int parts)
    {
        int made = 0, most = 0, seen = 0;
        foreach (int part in PartsAhead.Of(parts, part =>
        {
            Interlocked.Increment(ref made);
            if (part % 5 == 0) Thread.Sleep(1); // a later one is often done first
            return part;
        }))
        {
            most = Math.Max(most, Volatile.Read(ref made) - seen);
            Assert.Equal(seen++, part);
        }
        Assert.Equal((parts, parts), (seen, made));
        Assert.InRange(most, 0, 4);
    }

    [Theory]
    [InlineData(false)]
    [InlineData(true)]
    public void Nothing_is_being_made_any_more_when_somebody_has_had_enough(bool fails)
    {
        int working = 0;
        IEnumerable<int> parts = PartsAhead.Of(100, part =>
        {
            Interlocked.Increment(ref working);
            try
            {
                if (fails && part == 1) throw new IOException("part 1 is gone");
                Thread.Sleep(20);
                return part;
            }
            finally
            {
                Interlocked.Decrement(ref working);
            }
        });
        if (fails) Assert.Equal("part 1 is gone", Assert.Throws<IOException>(() => parts.Count()).Message);
        else Assert.Equal([0, 1], parts.Take(2));
        Assert.Equal(0, Volatile.Read(ref working));
    }
}
