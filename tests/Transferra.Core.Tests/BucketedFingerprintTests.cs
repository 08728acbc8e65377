using Transferra.Core.Records;
using Transferra.Tests;

namespace Transferra.Core.Tests;

/// <summary>Fingerprints by bucket, with tables on both sides of every border at which they are kept otherwise.</summary>
public sealed class BucketedFingerprintTests(ITestOutputHelper output)
{
    [Fact]
    public void What_differs_is_in_the_differing_buckets_and_little_else_is()
    {
        var random = new Random(Seeds.Given);
        output.WriteLine($"seed {Seeds.Given}");
        foreach (int rows in (int[])[0, 1, 15, 64, 65, 999, 1000, 1001, 5000])
            foreach (int kept in (int[])[1, 1000, 1 << 16])
            {
                // (1) one side in order and folded in between, the other in any order; each kept in its own way.
                int[] keys = [.. Enumerable.Range(0, rows)];
                HashSet<int> changed = [.. keys.Where(_ => random.Next(200) == 0)];
                var one = new BucketedFingerprint(kept);
                foreach (int key in keys) Add(one, key, 0);
                var other = new BucketedFingerprint(random.Next(2) == 0 ? kept : 1000);
                foreach (int key in keys.OrderBy(_ => random.Next()))
                {
                    Add(other, key, changed.Contains(key) ? 1 : 0);
                    if (key == rows / 2 && changed.Count > 5) other.Fold();
                }
                Assert.Equal(rows, one.Total().Rows);
                Assert.Equal(changed.Count == 0, one.Total() == other.Total());
                BucketSet differing = one.DifferingFrom(other);
                Assert.All(changed, key => Assert.True(differing.Contains(BitConverter.GetBytes(key))));
                Assert.InRange(differing.Count, changed.Count > 0 ? 1 : 0, changed.Count);
                // (2) the same again, from the other side and after both were folded.
                Assert.Equal(differing.Count, other.DifferingFrom(one).Count);
                if (changed.Count == 0 || rows < 999) continue;
                int read = keys.Count(key => differing.Contains(BitConverter.GetBytes(key)));
                Assert.InRange(read, changed.Count, changed.Count * 40);
            }
    }

    [Fact]
    public void Of_many_records_few_are_read_again_for_a_thousand_scattered_differences()
    {
        var one = new BucketedFingerprint();
        var other = new BucketedFingerprint();
        for (int key = 0; key < 1_000_000; key++)
        {
            Add(one, key, 0);
            Add(other, key, key % 1000 == 0 ? 1 : 0);
        }
        BucketSet differing = one.DifferingFrom(other);
        int read = Enumerable.Range(0, 1_000_000).Count(key => differing.Contains(BitConverter.GetBytes(key)));
        Assert.InRange(read, 1000, 10_000);
    }

    [Theory]
    [InlineData(0, 0)]
    [InlineData(0, 3000)]
    [InlineData(3000, 0)]
    [InlineData(700, 700)]
    [InlineData(700, 3000)]
    [InlineData(3000, 700)]
    [InlineData(3000, 3000)]
    public void Two_readings_together_are_one_reading_of_both(int here, int there)
    {
        BucketedFingerprint one = new(1000), other = new(1000), both = new(1000);
        for (int key = 0; key < here + there; key++)
        {
            Add(key < here ? one : other, key, key % 7);
            Add(both, key, key % 7);
        }
        Assert.Same(one, one.Also(other));
        Assert.Equal(both.Total(), one.Total());
        Assert.Equal(both.Groups(256), one.Groups(256));
        one.Fold();
        both.Fold();
        Assert.Equal(0, one.DifferingFrom(both).Count);
    }

    [Theory]
    [InlineData(1)] // 16 buckets, fewer than groups
    [InlineData(100_000)] // more buckets than groups
    public void A_difference_that_half_digests_do_not_show_is_in_a_differing_bucket(int rows)
    {
        var random = new Random(Seeds.Given);
        BucketedFingerprint one = new(0), other = new(0);
        int[] buckets = [.. Enumerable.Range(0, rows).Select(_ => random.Next(BucketedFingerprint.MostBuckets))];
        UInt128[] digests = [.. buckets.Select(_ => new UInt128((ulong)random.NextInt64(), (ulong)random.NextInt64()))];
        one.Add(buckets, digests);
        digests[rows / 2] += new UInt128(1, 0);
        other.Add(buckets, digests);
        Assert.NotEqual(one.Total(), other.Total());
        int[] groups = [.. Enumerable.Range(0, 8).Where(group => one.Groups(8)[group] != other.Groups(8)[group])];
        Assert.Equal([buckets[rows / 2] & 7], groups);
        Assert.InRange(one.DifferingFrom(other).Count, 1, BucketedFingerprint.MostBuckets / BucketedFingerprint.MostGroups);
        Assert.Equal(0, one.DifferingFrom(one).Count);
    }

    private static void Add(BucketedFingerprint to, int key, int version) => to.Add(BitConverter.GetBytes(key),
        BitConverter.GetBytes(((long)key << 8) + version));
}
