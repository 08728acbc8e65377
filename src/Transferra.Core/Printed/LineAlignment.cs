// LineAlignment.cs: which lines of two reports answer to each other: the longest common run of lines that keeps their order.
// Source: E. W. Myers, An O(ND) Difference Algorithm and Its Variations, Algorithmica 1 (1986).
// Holds: (1) the pairs are of equal lines, and both sides go up; (2) memory is bounded: where two reports have hardly anything in common,
//        they are paired place by place.
namespace Transferra.Core.Printed;

/// <summary>Aligns lines.</summary>
internal static class LineAlignment
{
    private const int MostEdits = 2000;

    /// <summary>Pairs of equal lines, by their places.</summary>
    public static IReadOnlyList<(int Before, int After)> Of(IReadOnlyList<string> before, IReadOnlyList<string> after)
    {
        int first = 0;
        while (first < before.Count && first < after.Count && before[first] == after[first]) first++;
        int same = 0;
        while (same < before.Count - first && same < after.Count - first && before[^(same + 1)] == after[^(same + 1)]) same++;
        var pairs = new List<(int, int)>(Enumerable.Range(0, first).Select(i => (i, i)));
        pairs.AddRange(Middle(before, after, first, before.Count - same, after.Count - same));
        pairs.AddRange(Enumerable.Range(0, same).Reverse().Select(i => (before.Count - 1 - i, after.Count - 1 - i)));
        return pairs;
    }

    private static IEnumerable<(int, int)> Middle(IReadOnlyList<string> before, IReadOnlyList<string> after, int first, int beforeEnd,
        int afterEnd)
    {
        int n = beforeEnd - first, m = afterEnd - first, most = Math.Min(n + m, MostEdits);
        var reached = new List<int[]>();
        int[] furthest = new int[(2 * most) + 3];
        for (int edits = 0; edits <= most; edits++)
        {
            for (int k = -edits; k <= edits; k += 2)
            {
                int at = k + most + 1;
                int x = k == -edits || (k != edits && furthest[at - 1] < furthest[at + 1]) ? furthest[at + 1] : furthest[at - 1] + 1,
                    y = x - k;
                while (x < n && y < m && before[first + x] == after[first + y]) (x, y) = (x + 1, y + 1);
                furthest[at] = x;
                if (x >= n && y >= m) return Back(reached, most, edits, n, m).Select(pair => (pair.X + first, pair.Y + first));
            }
            reached.Add(furthest[(most + 1 - edits - 1)..(most + 1 + edits + 2)]);
        }
        return Enumerable.Range(0, Math.Min(n, m)).Where(i => before[first + i] == after[first + i]).Select(i => (first + i, first + i));
    }

    // From the end to the beginning, edit by edit, along what was reached by one edit fewer.
    private static List<(int X, int Y)> Back(List<int[]> reached, int most, int edits, int n, int m)
    {
        var pairs = new List<(int, int)>();
        (int x, int y) = (n, m);
        for (; edits > 0; edits--)
        {
            int[] before = reached[edits - 1];
            int of(int k) => before[k + edits];
            int k = x - y;
            bool isDown = k == -edits || (k != edits && of(k - 1) < of(k + 1));
            int fromX = isDown ? of(k + 1) : of(k - 1), fromY = fromX - (isDown ? k + 1 : k - 1);
            (int startX, int startY) = isDown ? (fromX, fromY + 1) : (fromX + 1, fromY);
            while (x > startX && y > startY) pairs.Add((--x, --y));
            (x, y) = (fromX, fromY);
        }
        while (x > 0 && y > 0) pairs.Add((--x, --y));
        pairs.Reverse();
        return pairs;
    }
}
