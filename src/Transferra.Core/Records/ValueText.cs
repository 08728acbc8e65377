// ValueText.cs: dates, times, whole numbers and UUIDs from and to text, without culture.
using System.Buffers.Binary;
using System.Globalization;

namespace Transferra.Core.Records;

/// <summary>Reads and writes values other than decimals.</summary>
public static class ValueText
{
    private const long MicrosPerDay = 86_400_000_000;

    /// <summary>Days since 0001-01-01 of the last day that dates can name, 9999-12-31.</summary>
    public static readonly long LastDay = DateOnly.MaxValue.DayNumber;

    /// <summary>A long-held value as a person reads it: dates as ISO 8601.</summary>
    public static string OfLong(long value, FieldKind kind) => kind switch
    {
        FieldKind.Date or FieldKind.Timestamp when Specials.Is(value) => Specials.Show(value),
        FieldKind.Date => DateOnly.FromDayNumber((int)value).ToString("yyyy-MM-dd", CultureInfo.InvariantCulture),
        FieldKind.Time => new TimeOnly(value * 10).ToString("HH:mm:ss.FFFFFF", CultureInfo.InvariantCulture),
        FieldKind.Timestamp => new DateTime(value * 10).ToString("yyyy-MM-dd HH:mm:ss.FFFFFF", CultureInfo.InvariantCulture),
        FieldKind.Boolean => value != 0 ? "true" : "false",
        _ => value.ToString(CultureInfo.InvariantCulture),
    };

    /// <summary>A UUID in its usual form.</summary>
    public static string OfUuid(Int128 value)
    {
        Span<byte> bytes = stackalloc byte[16];
        BinaryPrimitives.WriteInt128BigEndian(bytes, value);
        return new Guid(bytes, bigEndian: true).ToString("D");
    }

    /// <summary>Reads a UUID in its usual form.</summary>
    public static bool TryUuid(ReadOnlySpan<byte> text, out Int128 value)
    {
        value = 0;
        if (!Guid.TryParse(text, CultureInfo.InvariantCulture, out Guid guid)) return false;
        Span<byte> bytes = stackalloc byte[16];
        guid.TryWriteBytes(bytes, bigEndian: true, out _);
        value = BinaryPrimitives.ReadInt128BigEndian(bytes);
        return true;
    }

    /// <summary>Writes an ISO date, 10 bytes.</summary>
    public static void WriteDate(long day, Span<byte> room)
    {
        (int year, int month, int dayOfMonth) = DateOnly.FromDayNumber((int)day);
        room[0] = (byte)('0' + year / 1000);
        room[1] = (byte)('0' + year / 100 % 10);
        room[2] = (byte)('0' + year / 10 % 10);
        room[3] = (byte)('0' + year % 10);
        room[4] = room[7] = (byte)'-';
        room[5] = (byte)('0' + month / 10);
        room[6] = (byte)('0' + month % 10);
        room[8] = (byte)('0' + dayOfMonth / 10);
        room[9] = (byte)('0' + dayOfMonth % 10);
    }

    /// <summary>Reads an ISO date, exactly <c>yyyy-mm-dd</c>.</summary>
    public static bool TryDate(ReadOnlySpan<byte> text, out long day)
    {
        day = 0;
        if (text.Length != 10 || text[4] != '-' || text[7] != '-') return false;
        if (!Digits(text[..4], out int year) || !Digits(text.Slice(5, 2), out int month) || !Digits(text.Slice(8, 2), out int dayOfMonth))
            return false;
        return TryDay(year, month, dayOfMonth, out day);
    }

    /// <summary>Reads an ISO time of day, <c>hh:mm[:ss[.ffffff]]</c>.</summary>
    public static bool TryTime(ReadOnlySpan<byte> text, out long micros)
    {
        micros = 0;
        if (text.Length < 5 || text[2] != ':' || !Digits(text[..2], out int hour)
            || !Digits(text.Slice(3, 2), out int minute)) return false;
        int second = 0, fraction = 0;
        if (text.Length > 5)
        {
            if (text.Length < 8 || text[5] != ':' || !Digits(text.Slice(6, 2), out second)) return false;
            if (text.Length > 8)
            {
                if (text[8] != '.' || text.Length is < 10 or > 15 || !Digits(text[9..], out fraction)) return false;
                for (int i = text.Length; i < 15; i++) fraction *= 10;
            }
        }
        if (hour > 23 || minute > 59 || second > 59) return false;
        micros = ((hour * 60L + minute) * 60 + second) * 1_000_000 + fraction;
        return true;
    }

    /// <summary>Reads an ISO date and time with a blank or T between them; a date alone is midnight.</summary>
    public static bool TryTimestamp(ReadOnlySpan<byte> text, out long micros)
    {
        micros = 0;
        if (text.Length < 10 || !TryDate(text[..10], out long day)) return false;
        long time = 0;
        if (text.Length > 10 && (text[10] is not ((byte)' ' or (byte)'T') || !TryTime(text[11..], out time))) return false;
        micros = day * MicrosPerDay + time;
        return true;
    }

    /// <summary>The day number of a date, when there is such a date.</summary>
    public static bool TryDay(int year, int month, int dayOfMonth, out long day)
    {
        day = 0;
        if (year is < 1 or > 9999 || month is < 1 or > 12 || dayOfMonth < 1 || dayOfMonth > DateTime.DaysInMonth(year, month)) return false;
        day = new DateOnly(year, month, dayOfMonth).DayNumber;
        return true;
    }

    /// <summary>Reads ASCII digits only, up to nine of them.</summary>
    public static bool Digits(ReadOnlySpan<byte> text, out int value)
    {
        value = 0;
        if (text.Length is 0 or > 9) return false;
        foreach (byte c in text)
        {
            int digit = c - '0';
            if ((uint)digit > 9) return false;
            value = value * 10 + digit;
        }
        return true;
    }

    /// <summary>Reads a whole number with optional sign and surrounding blanks.</summary>
    public static FaultCode? TryWhole(ReadOnlySpan<byte> text, out long value)
    {
        if (DecimalText.TryShort(text, 19, 0, out value)) return null;
        FaultCode? fault = DecimalText.TryParse(text, 19, 0, out Int128 units);
        value = 0;
        if (fault is not null) return fault;
        if (units < long.MinValue || units > long.MaxValue) return FaultCode.OutOfRange;
        value = (long)units;
        return null;
    }

    /// <summary>A value cut on a character border for a message, with quotation marks.</summary>
    public static string Quote(string value, int most = 60)
    {
        if (value.Length <= most) return $"\"{value}\"";
        int cut = char.IsHighSurrogate(value[most - 1]) ? most - 1 : most;
        return $"\"{value[..cut]}...\"";
    }
}
