// ColumnProfile.cs: what the values of a column look like: how many there are, of what form, and a sketch by which columns of two stores
// are compared without keeping their values.
// Holds: (1) memory is bounded, whatever the column holds; (2) a value is kept as itself only while the column has few different ones.
using System.Globalization;
using System.IO.Hashing;
using System.Text;
using System.Text.RegularExpressions;
using Transferra.Core.Expressions;
using Transferra.Core.Records;

namespace Transferra.Core.Drafting;

/// <summary>What is seen of a column.</summary>
/// <param name="shape">The column.</param>
/// <param name="ordinal">Its position in the table, from 0.</param>
internal sealed partial class ColumnProfile(ColumnShape shape, int ordinal)
{
    /// <summary>Different values that are kept as themselves; a column with more has no list of codes.</summary>
    public const int MostValues = 64;

    // Different values by which containment is judged exactly, and values of a sketch otherwise.
    private const int MostHashes = 200_000, SketchSize = 256;

    private static readonly DateTemplate[] Templates = [.. ((string[])["YYYY-MM-DD", "DD/MM/YYYY", "MM/DD/YYYY", "DD.MM.YYYY", "YYYYMMDD",
        "DD/MM/RR", "MM/DD/RR", "DD.MM.RR", "YYYY/MM/DD", "DD-MM-YYYY", "DDMMYYYY", "RRMMDD", "DDMMRR"]).Select(DateTemplate.Parse)];

    private readonly Dictionary<string, long> _values = new(StringComparer.Ordinal);
    private HashSet<ulong>? _hashes = [];
    private readonly List<DateTemplate> _templates = [.. Templates];
    private readonly Dictionary<string, HashSet<ulong>> _days = [];
    private ulong[]? _sketch;

    /// <summary>The column.</summary>
    public ColumnShape Shape => shape;

    /// <summary>Its name.</summary>
    public string Name => shape.Name;

    /// <summary>Its position in the table, from 0.</summary>
    public int Ordinal => ordinal;

    /// <summary>Records looked at.</summary>
    public long Rows { get; private set; }

    /// <summary>Records without a value.</summary>
    public long Nulls { get; private set; }

    /// <summary>Records whose value is an empty text or only blanks.</summary>
    public long Blanks { get; private set; }

    /// <summary>Records with a value that is more than blanks.</summary>
    public long Filled => Rows - Nulls - Blanks;

    /// <summary>Longest value, in characters.</summary>
    public int Longest { get; private set; }

    /// <summary>The values with how often each occurs; null when there are more than <see cref="MostValues"/>.</summary>
    public IReadOnlyDictionary<string, long>? Values => _values.Count <= MostValues ? _values : null;

    /// <summary>How many different values there are; a lower bound when <see cref="IsCapped"/>.</summary>
    public int Distinct => _hashes?.Count ?? MostHashes;

    /// <summary>Whether there are more different values than are counted.</summary>
    public bool IsCapped => _hashes is null;

    /// <summary>Whether no two records have the same value, and each has one.</summary>
    public bool IsUnique => Rows > 0 && Nulls == 0 && !IsCapped && Distinct == Rows;

    /// <summary>Whether hardly any two records have the same value, and each has one.</summary>
    public bool IsNearlyUnique => Rows > 0 && Nulls + Blanks == 0 && (IsCapped || Distinct >= Rows * 0.98);

    /// <summary>Whether each filled value is a number.</summary>
    public bool IsNumeric { get; private set; } = true;

    /// <summary>Whether a number was written as "+5" or with zeros in front, as codes are.</summary>
    public bool HasLeadingZeros { get; private set; }

    /// <summary>Most decimals of a number.</summary>
    public int Decimals { get; private set; }

    /// <summary>Smallest and greatest whole number.</summary>
    public long Least { get; private set; } = long.MaxValue;

    /// <inheritdoc cref="Least"/>
    public long Most { get; private set; } = long.MinValue;

    /// <summary>Templates of dates that every filled value fits; none for a column that is not text.</summary>
    public IReadOnlyList<string> Dates => Filled == 0 || shape.Type.Kind != FieldKind.Text ? [] : [.. _templates.Select(template =>
        template.Text)];

    /// <summary>Filled values that look like mail addresses, telephone numbers, or bank accounts.</summary>
    public long Personal { get; private set; }

    /// <summary>Takes in a value; null for none.</summary>
    public void Add(string? value)
    {
        Rows++;
        if (value is null)
        {
            Nulls++;
            return;
        }
        if (_values.Count <= MostValues) _values[value] = _values.GetValueOrDefault(value) + 1;
        string bare = value.TrimEnd();
        Longest = Math.Max(Longest, value.Length);
        if (bare.Length == 0)
        {
            Blanks++;
            return;
        }
        OfNumber(bare);
        Keep(HashOf(Canonical(bare)));
        if (shape.Type.Kind != FieldKind.Text) return;
        if (_templates.Count > 0) OfDate(Encoding.UTF8.GetBytes(bare.Trim()));
        if (LooksPersonal().IsMatch(bare)) Personal++;
    }

    private void Keep(ulong hash)
    {
        (_sketch, _daySketches) = (null, null);
        if (_hashes?.Add(hash) != true || _hashes.Count <= MostHashes) return;
        _kept = new SortedSet<ulong>(_hashes.Order().Take(SketchSize));
        _hashes = null;
    }

    private SortedSet<ulong>? _kept;

    private void OfNumber(string bare)
    {
        if (!IsNumeric) return;
        string text = bare.Trim();
        if (text.Length > 30 || !Number().IsMatch(text))
        {
            IsNumeric = false;
            return;
        }
        int point = text.IndexOf('.', StringComparison.Ordinal);
        Decimals = Math.Max(Decimals, point < 0 ? 0 : text.Length - point - 1);
        string digits = text.TrimStart('-', '+');
        HasLeadingZeros |= text[0] == '+' || (digits.Length > 1 && digits[0] == '0' && digits[1] != '.');
        if (point < 0 && long.TryParse(text, NumberStyles.AllowLeadingSign, CultureInfo.InvariantCulture, out long whole))
            (Least, Most) = (Math.Min(Least, whole), Math.Max(Most, whole));
    }

    private void OfDate(byte[] text)
    {
        for (int i = _templates.Count - 1; i >= 0; i--)
        {
            if (!_templates[i].TryRead(text, out long day))
            {
                _days.Remove(_templates[i].Text);
                _templates.RemoveAt(i);
                continue;
            }
            if (!_days.TryGetValue(_templates[i].Text, out HashSet<ulong>? days)) _days[_templates[i].Text] = days = [];
            if (days.Count < MostHashes) days.Add(HashOf(DateOnly.FromDayNumber((int)day).ToString("yyyy-MM-dd",
                CultureInfo.InvariantCulture)));
        }
    }

    /// <summary>A value as it is compared between types: numbers without needless zeros, timestamps at midnight as their day, other text as
    /// it is but for blanks behind it.</summary>
    public static string Canonical(string value)
    {
        string text = value.TrimEnd();
        if (text.Length is > 0 and <= 30 && Number().IsMatch(text))
        {
            bool isNegative = text[0] == '-';
            string digits = text.TrimStart('-', '+');
            // A number written with a zero in front is a code.
            if (digits.Length > 1 && digits[0] == '0' && digits[1] != '.') return text;
            if (digits.Contains('.', StringComparison.Ordinal)) digits = digits.TrimEnd('0').TrimEnd('.');
            if (digits.StartsWith('.')) digits = "0" + digits;
            return digits is "0" or "" ? "0" : isNegative ? "-" + digits : digits;
        }
        return text.EndsWith(" 00:00:00", StringComparison.Ordinal) && text.Length == 19 ? text[..10] : text;
    }

    private static ulong HashOf(string value) => XxHash3.HashToUInt64(Encoding.UTF8.GetBytes(value));

    /// <summary>Whether every value is also one of another column: exactly while both are counted, by their sketches otherwise.</summary>
    public bool IsWithin(ColumnProfile other) => Distinct > 0 && ShareWithin(other) >= 1;

    /// <summary>The share of this column's different values that the other column has, too.</summary>
    public double ShareWithin(ColumnProfile other)
    {
        if (_hashes is { Count: 0 } || (_hashes is null && _kept is null)) return 0;
        if (other._hashes is null) return Overlap(other);
        ICollection<ulong> mine = _hashes is not null ? _hashes : _kept!;
        return (double)mine.Count(other._hashes.Contains) / mine.Count;
    }

    /// <summary>Whether the other column could have so large a share of this one's values: true wherever it has, and hardly ever
    /// elsewhere. Much quicker than <see cref="ShareWithin"/>.</summary>
    public bool MayBeWithin(ColumnProfile other, double share)
    {
        if (_hashes is null || other._hashes is null) return true;
        if (other._hashes.Count < _hashes.Count * share) return false;
        int missing = 0, most = (int)Math.Ceiling(_hashes.Count * (1 - share));
        foreach (ulong hash in _hashes)
            if (!other._hashes.Contains(hash) && ++missing > most) return false;
        return true;
    }

    /// <summary>How far two columns have the same different values, from 0 to 1: Jaccard's index, estimated from the smallest hashes of
    /// both (bottom-k sketches: Cohen and Kaplan, 2007). Text that is a date in some form is compared as one.</summary>
    public double Overlap(ColumnProfile other)
    {
        double best = Index(Sketch(), other.Sketch());
        foreach (ulong[] days in Days()) best = Math.Max(best, Index(days, other.Sketch()));
        foreach (ulong[] days in other.Days()) best = Math.Max(best, Index(Sketch(), days));
        return best;
    }

    /// <summary>The smallest digests of its values, also as days where it holds dates in text.</summary>
    public IEnumerable<ulong> Digests => Sketch().Concat(Days().SelectMany(days => days));

    private ulong[][] Days() => _daySketches ??= Dates.Count > 0 ? [.. _days.Values.Select(Smallest)] : [];

    private ulong[][]? _daySketches;

    private ulong[] Sketch() => _sketch ??= _hashes is not null ? Smallest(_hashes) : [.. _kept!];

    private static ulong[] Smallest(HashSet<ulong> hashes) => [.. hashes.Order().Take(SketchSize)];

    private static double Index(ulong[] a, ulong[] b)
    {
        if (a.Length == 0 || b.Length == 0) return 0;
        int both = 0, all = 0, i = 0, j = 0;
        while (all < SketchSize && (i < a.Length || j < b.Length))
        {
            if (j >= b.Length || (i < a.Length && a[i] < b[j])) i++;
            else if (i >= a.Length || b[j] < a[i]) j++;
            else (i, j, both) = (i + 1, j + 1, both + 1);
            all++;
        }
        return (double)both / all;
    }

    [GeneratedRegex(@"\A[+-]?(\d+\.?\d*|\.\d+)\z", RegexOptions.CultureInvariant)]
    private static partial Regex Number();

    // A mail address, an international bank account number, a telephone number.
    [GeneratedRegex(@"\A\s*(?:[\w.+-]+@[\w-]+(?:\.[\w-]+)+|[A-Z]{2}\d{2}(?: ?[A-Z0-9]{4}){3,7}(?: ?[A-Z0-9]{1,3})?"
        + @"|\+?\(?\d[\d ()/-]{6,}\d)\s*\z", RegexOptions.CultureInvariant)]
    private static partial Regex LooksPersonal();
}
