using System.Numerics;
using System.Text;
using FsCheck;
using FsCheck.Fluent;
using Transferra.Core.Records;

namespace Transferra.Core.Tests;

public class FieldTypeTests
{
    [Theory]
    [InlineData("INTEGER")]
    [InlineData("DECIMAL(14,2)")]
    [InlineData("DECIMAL(38,38)")]
    [InlineData("VARCHAR(40)")]
    [InlineData("TEXT")]
    [InlineData("DATE")]
    [InlineData("TIME")]
    [InlineData("TIMESTAMP")]
    [InlineData("BOOLEAN")]
    [InlineData("BLOB")]
    [InlineData("UUID")]
    [InlineData("DOUBLE PRECISION")]
    public void Parse_and_ToString_are_inverses(string text)
    {
        Assert.True(FieldType.TryParse(text, out FieldType type));
        Assert.Equal(text, type.ToString());
    }

    [Theory]
    [InlineData("")]
    [InlineData("MONEY")]
    [InlineData("DECIMAL")] // without precision it would depend on the engine
    [InlineData("DECIMAL(39,2)")]
    [InlineData("DECIMAL(4,5)")]
    [InlineData("DECIMAL(14,2")]
    [InlineData("VARCHAR(0)")]
    [InlineData("VARCHAR(x)")]
    [InlineData("DATE(3)")]
    public void What_is_no_type_is_not_guessed(string text) => Assert.False(FieldType.TryParse(text, out _));
}

public class DecimalTextTests
{
    [Theory]
    [InlineData("12.50", 2, "12.50", null)]
    [InlineData("12.5", 2, "12.50", null)]
    [InlineData("-0.01", 2, "-0.01", null)]
    [InlineData("  7 ", 2, "7.00", null)]
    [InlineData("+3", 0, "3", null)]
    [InlineData(".5", 1, "0.5", null)]
    [InlineData("5.", 1, "5.0", null)]
    [InlineData("0012.500", 2, "12.50", null)]
    [InlineData("12.505", 2, null, FaultCode.NeedsRounding)]
    [InlineData("1000000000000.00", 2, null, FaultCode.OutOfRange)] // 13 digits before the point in DECIMAL(14,2)
    [InlineData("999999999999.99", 2, "999999999999.99", null)]
    [InlineData("", 2, null, FaultCode.NotANumber)]
    [InlineData("-", 2, null, FaultCode.NotANumber)]
    [InlineData(".", 2, null, FaultCode.NotANumber)]
    [InlineData("12,50", 2, null, FaultCode.NotANumber)] // a decimal comma is declared, not guessed
    [InlineData("12,5O", 2, null, FaultCode.NotANumber)]
    [InlineData("1.2.3", 2, null, FaultCode.NotANumber)]
    [InlineData("1e3", 2, null, FaultCode.NotANumber)]
    [InlineData("1 000", 2, null, FaultCode.NotANumber)]
    public void Reads_exactly_or_not_at_all(string text, int scale, string? expected, FaultCode? fault)
    {
        Assert.Equal(fault, DecimalText.TryParse(Encoding.UTF8.GetBytes(text), 14, scale, out Int128 units));
        if (expected is not null) Assert.Equal(expected, DecimalText.Format(units, scale));
        else Assert.Equal(0, units);
    }

    [Fact]
    public void Short_numbers_are_read_as_all_others_are()
    {
        int seed = Transferra.Tests.Seeds.Given, few = 0;
        var random = new Random(seed);
        for (int trial = 0; trial < 200_000; trial++)
        {
            string text = new([.. Enumerable.Range(0, random.Next(23)).Select(at => (random.Next(at == 0 ? 3 : 14)) switch
            {
                0 => '-', 1 => '.', 2 => '0', _ => (char)('0' + random.Next(10)),
            })]);
            if (random.Next(20) == 0) text = text.Insert(random.Next(text.Length + 1), "+ e,x"[random.Next(5)].ToString());
            int precision = random.Next(1, 39), scale = random.Next(0, Math.Min(precision, 20) + 1);
            byte[] bytes = Encoding.ASCII.GetBytes(text);
            if (!DecimalText.TryShort(bytes, precision, scale, out long units)) continue;
            few++;
            // A blank in front is no part of a short number, and means nothing.
            Assert.Null(DecimalText.TryParse([(byte)' ', .. bytes], precision, scale, out Int128 all));
            Assert.True(all == units, $"seed {seed}: {text} as DECIMAL({precision},{scale}): {units}, not {all}");
        }
        Assert.True(few > 10_000);
    }

    [Fact]
    public void All_38_digits_survive_where_the_platforms_decimal_would_round()
    {
        const string text = "12345678901234567890123456789012345.678";
        Assert.Null(DecimalText.TryParse(Encoding.UTF8.GetBytes(text), 38, 3, out Int128 units));
        Assert.Equal(text, DecimalText.Format(units, 3));
    }

    // Oracle: BigInteger arithmetic, which shares nothing with the Int128 code.
    [Fact]
    public void Agrees_with_big_integers_on_any_number_of_any_scale() => Check.One(Config.QuickThrowOnFailure.WithMaxTest(2000),
        Prop.ForAll(ArbMap.Default.ArbFor<long>(), ArbMap.Default.ArbFor<long>(), Gen.Choose(0, 37).ToArbitrary(), (high, low, scale) =>
        {
            BigInteger value = (new BigInteger(high) << 62) + low;
            string digits = BigInteger.Abs(value).ToString(System.Globalization.CultureInfo.InvariantCulture).PadLeft(scale + 1, '0');
            string text = (value.Sign < 0 ? "-" : "") + digits[..^scale] + (scale > 0 ? "." + digits[^scale..] : "");
            return DecimalText.TryParse(Encoding.UTF8.GetBytes(text), 38, scale, out Int128 units) is null && (BigInteger)units == value
                && DecimalText.Format(units, scale) == text;
        }));

    [Theory]
    [InlineData(1250, 2, 4, 125000, null)]
    [InlineData(1250, 2, 1, 125, null)]
    [InlineData(1255, 2, 1, 0, FaultCode.NeedsRounding)]
    public void Changing_the_scale_is_exact_or_a_fault(long units, int from, int to, long expected, FaultCode? fault)
    {
        Assert.Equal(fault, DecimalText.TryRescale(units, from, to, 38, out Int128 result));
        Assert.Equal(expected, result);
    }
}

public class ValueTextTests
{
    [Theory]
    [InlineData("0001-01-01", 0)]
    [InlineData("2024-02-29", 738944)]
    [InlineData("9999-12-31", 3652058)]
    [InlineData("2023-02-29", -1)]
    [InlineData("2023-13-01", -1)]
    [InlineData("0000-01-01", -1)]
    [InlineData("2023-1-1", -1)]
    [InlineData("23/01/2023", -1)]
    public void Dates(string text, int expected)
    {
        Assert.Equal(expected >= 0, ValueText.TryDate(Encoding.UTF8.GetBytes(text), out long day));
        if (expected < 0) return;
        Assert.Equal(expected, day);
        var room = new byte[10];
        ValueText.WriteDate(day, room);
        Assert.Equal(text, Encoding.UTF8.GetString(room));
    }

    [Theory]
    [InlineData("2024-02-29 23:59:59.123456", "2024-02-29 23:59:59.123456")]
    [InlineData("2024-02-29T07:05", "2024-02-29 07:05:00")]
    [InlineData("2024-02-29", "2024-02-29 00:00:00")]
    [InlineData("2024-02-29 24:00:00", null)]
    [InlineData("2024-02-29x", null)]
    public void Timestamps(string text, string? expected)
    {
        Assert.Equal(expected is not null, ValueText.TryTimestamp(Encoding.UTF8.GetBytes(text), out long micros));
        if (expected is not null) Assert.Equal(expected, ValueText.OfLong(micros, FieldKind.Timestamp));
    }

    [Fact]
    public void A_value_is_cut_on_a_character_border() => Assert.Equal("\"aaa...\"", ValueText.Quote("aaa\U0001F3BBbbbbb", 4));
}

public class TextDecoderTests
{
    [Fact]
    public void Code_page_850_becomes_utf8()
    {
        var result = new BytesVector(FieldType.Text);
        Assert.True(new TextDecoder("ibm850").TryAppend([0x4A, 0x81, 0x72, 0x67, 0x65, 0x6E], result));
        Assert.Equal("Jürgen", result.Show(0));
    }

    [Fact]
    public void A_byte_without_a_character_is_refused_and_leaves_nothing()
    {
        var result = new BytesVector(FieldType.Text);
        Assert.False(new TextDecoder("windows-1252").TryAppend([0x41, 0x81], result)); // 0x81 has no character in that page
        Assert.Equal(0, result.Count);
    }

    [Fact]
    public void Every_name_a_kit_may_use_has_a_decoder() => Assert.All(TextEncodings.Names, name => Assert.NotNull(new TextDecoder(name)));
}

public class FingerprintTests
{
    private static byte[] Encoded(Action<CanonicalWriter> write)
    {
        var writer = new CanonicalWriter();
        write(writer);
        return writer.Written.ToArray();
    }

    [Fact]
    public void The_declared_scale_of_a_decimal_does_not_matter()
    {
        Assert.Equal(Encoded(w => w.Decimal(150, 2)), Encoded(w => w.Decimal(15, 1)));
        Assert.Equal(Encoded(w => w.Decimal(0, 9)), Encoded(w => w.Decimal(0, 0)));
        Assert.NotEqual(Encoded(w => w.Decimal(150, 2)), Encoded(w => w.Decimal(150, 1)));
        Int128 wide = Int128.Parse("123456789012345678901234567890", System.Globalization.CultureInfo.InvariantCulture);
        Assert.Equal(Encoded(w => w.Decimal(wide * 100, 4)), Encoded(w => w.Decimal(wide, 2)));
    }

    [Fact]
    public void Neighbouring_texts_do_not_run_into_each_other() =>
        Assert.NotEqual(Encoded(w => { w.Bytes("ab"u8); w.Bytes("c"u8); }), Encoded(w => { w.Bytes("a"u8); w.Bytes("bc"u8); }));

    [Fact]
    public void An_empty_text_is_not_a_missing_one() => Assert.NotEqual(Encoded(w => w.Bytes(default)), Encoded(w => w.Null()));

    [Fact]
    public void Order_does_not_matter_but_number_does() => Check.One(Config.QuickThrowOnFailure,
        Prop.ForAll(ArbMap.Default.ArbFor<int[]>(), numbers =>
    {
        var forward = new BucketedFingerprint();
        var backward = new BucketedFingerprint();
        foreach (int number in numbers) Add(forward, number);
        foreach (int number in numbers.Reverse()) Add(backward, number);
        bool same = forward.DifferingFrom(backward).Count == 0 && forward.Total() == backward.Total();
        Add(backward, 42);
        Add(backward, 42); // a record that is there twice more must not cancel itself
        return same && forward.DifferingFrom(backward).Count == 1 && forward.Total().Rows + 2 == backward.Total().Rows;
    }));

    private static void Add(BucketedFingerprint fingerprint, int number) => fingerprint.Add(BitConverter.GetBytes(number),
        BitConverter.GetBytes(number));
}
