// ValueProbe.cs: looks at every value of a table by itself: text, dates, codes, what is blank.
// Why on the side of the trial of the hop (TrialProbe.cs): what the hop cannot convert is a fault; what it can, and is odd all the same,
// is a warning. So is what it does not touch: odd values that were there all along are told before and after, and stop nothing.
using System.Buffers;
using System.Text;
using Transferra.Core.Kits;
using Transferra.Core.Records;

namespace Transferra.Core.Checks;

/// <summary>Makes the heads of findings about values, worded alike wherever they are found.</summary>
internal sealed class ValueHeads(string version, Func<MendKind, string, string, string> mendOf, string where = "")
{
    private readonly Dictionary<(string Kind, Grade Grade, string Table, string Subject), FindingHead> _known = [];

    /// <summary>The head of a kind of finding about a column.</summary>
    public FindingHead Of(string kind, Grade grade, string table, string column, string what)
    {
        what += where;
        string subject = kind is FindingKinds.NotConvertible or FindingKinds.TooLong || where.Length > 0 ? $"{column}: {what}" : column;
        if (_known.TryGetValue((kind, grade, table, subject), out FindingHead? head)) return head;
        string mend = kind switch
        {
            FindingKinds.DecodedTwice => mendOf(MendKind.DecodeAgain, table, column),
            FindingKinds.ControlCharacters => mendOf(MendKind.Trim, table, column),
            _ => "",
        };
        return _known[(kind, grade, table, subject)] = new FindingHead(kind, grade, table, subject, what,
            mend.Length > 0 ? $"Have them put right on a copy: transferra check CODE --mend" : grade == Grade.Fault
                ? $"Correct them in version {version}, then check again."
                    : $"Check whether they are intended; correct them in version {version} if not.")
        { Mend = mend };
    }

    /// <summary>The head for a value that a store or a formula could not deliver.</summary>
    public FindingHead OfFault(FaultCode code, Grade grade, string table, string column, string reason)
    {
        string kind = code switch
        {
            FaultCode.NotText => FindingKinds.NotText,
            FaultCode.NotANumber => FindingKinds.NotANumber,
            FaultCode.NotADate or FaultCode.NotATime => FindingKinds.NotADate,
            FaultCode.TooLong or FaultCode.OutOfRange or FaultCode.NeedsRounding => FindingKinds.TooLong,
            FaultCode.NotInList => FindingKinds.NotInList,
            FaultCode.MissingValue => FindingKinds.Blank,
            _ => FindingKinds.NotConvertible,
        };
        string why = code switch
        {
            FaultCode.NotInList => "the code is not in the list",
            FaultCode.MissingReference or FaultCode.AmbiguousReference => code == FaultCode.MissingReference
                ? "the record it points to is not there" : "several records have what it points to, and are not the same",
            _ => reason,
        };
        string what = grade == Grade.Fault ? $"values of {column} that cannot be converted" : $"invalid values in {column}";
        return Of(kind, grade, table, column, column.Length > 0 ? $"{what}: {why}" : why);
    }
}

/// <summary>What becomes of the values of a table, and so what it means when one is not what its column is declared for.</summary>
internal enum ValueFate
{
    /// <summary>They are to be what the kit says: a fault.</summary>
    Judged,

    /// <summary>They are converted: the trial of the hop tells what cannot be.</summary>
    Converted,

    /// <summary>They are left out, or go nowhere: a warning.</summary>
    LeftOut,

    /// <summary>They stay what they are, before and after: a warning, and nothing to stop for.</summary>
    Stays,
}

/// <summary>Looks at the values of a table.</summary>
internal sealed class ValueProbe : Probe
{
    private static readonly SearchValues<byte> Control =
        SearchValues.Create([.. Enumerable.Range(0, 0x20).Where(value => value is not (9 or 10 or 13)).Select(value => (byte)value), 0x7F]);

    /// <summary>Days that are taken for plausible when the kit says nothing: 1900-01-01 to 2099-12-31.</summary>
    private static readonly (long From, long To) Plausible = (new DateOnly(1900, 1, 1).DayNumber, new DateOnly(2099, 12, 31).DayNumber);

    private const long MicrosPerDay = 86_400_000_000;

    private readonly TableScan _scan;
    private readonly TrialProbe? _trial;
    private readonly ValueFate _fate;
    private readonly ValueHeads _heads;
    private readonly FindingCollector _findings;
    private readonly DecodedTwice _twice;
    private readonly List<Action> _looks = [];

    /// <param name="scan">The table.</param>
    /// <param name="checks">What the kit says of its values; null when nothing.</param>
    /// <param name="trial">Tells which rows are reported already; null when there is no trial.</param>
    /// <param name="fate">What becomes of the values.</param>
    /// <param name="twice">Tells text that was decoded twice.</param>
    /// <param name="heads">Words.</param>
    /// <param name="findings">Where they go.</param>
    public ValueProbe(TableScan scan, TableChecks? checks, TrialProbe? trial, ValueFate fate, DecodedTwice twice, ValueHeads heads,
        FindingCollector findings)
    {
        (_scan, _trial, _fate, _twice, _heads, _findings) = (scan, trial, fate, twice, heads, findings);
        for (int ordinal = 0; ordinal < scan.Table.Columns.Count; ordinal++)
        {
            int at = ordinal;
            ColumnShape column = scan.Table.Columns[at];
            if (column.Type.Kind == FieldKind.Text) _looks.Add(() => LookAtText(at));
            if (column.Type.Kind is FieldKind.Date or FieldKind.Timestamp)
            {
                (long from, long to) = checks is not null && checks.Dates.TryGetValue(column.Name, out (long From, long To) range) ? range
                    : Plausible;
                if (column.Type.Kind == FieldKind.Timestamp) (from, to) = (from * MicrosPerDay, (to + 1) * MicrosPerDay - 1);
                _looks.Add(() => LookAtDates(at, from, to));
            }
            if (checks is not null && checks.Codes.TryGetValue(column.Name, out IReadOnlyList<string>? codes))
            {
                HashSet<ulong> known = [.. codes.Select(code => DigestOf(code, column.Type))];
                _looks.Add(() => LookAtCodes(at, known));
            }
            if (checks?.Filled.Contains(column.Name, StringComparer.OrdinalIgnoreCase) == true) _looks.Add(() =>
                LookForBlanks(at, blanksCount: true));
            else if (column.Required && fate != ValueFate.Converted) _looks.Add(() => LookForBlanks(at, blanksCount: false));
        }
    }

    private RecordBatch Batch => _scan.Batch;

    private Grade FaultGrade => _fate == ValueFate.Judged ? Grade.Fault : Grade.Warning;

    public override void Take()
    {
        if (_fate != ValueFate.Converted) TellFaults();
        foreach (Action look in _looks) look();
    }

    private void TellFaults()
    {
        foreach (RowFault fault in Batch.Faults)
        {
            bool mayShow = _scan.Table.MayShow(fault.Column);
            string reason = mayShow || fault.Value.Length == 0 ? fault.Reason : fault.Reason.Replace(fault.Value, TableShape.Private,
                StringComparison.Ordinal);
            _findings.Add(_heads.OfFault(fault.Code, FaultGrade, _scan.Table.Name, fault.Column, reason), _scan.NameOf(fault.Row),
                mayShow ? fault.Value : TableShape.Private);
        }
    }

    private bool IsToldAlready(int row) => _trial?.IsException(row) == true;

    private void Add(string kind, Grade grade, int ordinal, int row, string what) =>
        _findings.Add(_heads.Of(kind, grade, _scan.Table.Name, _scan.Table.Columns[ordinal].Name, what), _scan.NameOf(row),
            Batch.Show(row, ordinal));

    private string Name(int ordinal) => _scan.Table.Columns[ordinal].Name;

    private void LookAtText(int ordinal)
    {
        var texts = (BytesVector)Batch.Vectors[ordinal];
        ReadOnlySpan<byte> all = texts.AllBytes;
        ReadOnlySpan<int> ends = texts.Ends;
        for (int at = 0, found; at < all.Length && (found = all[at..].IndexOfAny(Control)) >= 0;)
        {
            int row = RowAt(ends, at + found);
            Add(FindingKinds.ControlCharacters, Grade.Warning, ordinal, row, $"texts of {Name(ordinal)} with control characters");
            at = ends[row];
        }
        if (_twice.MayBeIn(all))
            for (int row = 0; row < texts.Count; row++)
                if (_twice.Again(texts[row]) is not null) Add(FindingKinds.DecodedTwice, Grade.Warning, ordinal, row,
                    $"texts of {Name(ordinal)} that were decoded twice");
        int most = texts.Type.Length;
        if (most == 0) return;
        for (int row = 0, start = 0; row < ends.Length; start = ends[row++])
            if (ends[row] - start > most && !IsToldAlready(row) && LengthInUtf16(all[start..ends[row]]) > most)
                Add(FindingKinds.TooLong, _fate is ValueFate.Converted or ValueFate.Stays ? Grade.Note : FaultGrade, ordinal, row,
                    $"texts of {Name(ordinal)} that are longer than {texts.Type}");
    }

    private static int LengthInUtf16(ReadOnlySpan<byte> utf8) => Encoding.UTF8.GetCharCount(utf8);

    // The row that a byte of all rows' texts belongs to.
    private static int RowAt(ReadOnlySpan<int> ends, int offset)
    {
        int found = ends.BinarySearch(offset);
        int row = found < 0 ? ~found : found + 1;
        // Rows that end where they begin have no bytes, so the first that ends behind the byte is it.
        while (row < ends.Length && ends[row] <= offset) row++;
        return row;
    }

    private void LookAtDates(int ordinal, long from, long to)
    {
        var dates = (LongVector)Batch.Vectors[ordinal];
        ReadOnlySpan<long> values = dates.Values;
        for (int row = 0; row < values.Length; row++)
            if ((values[row] < from || values[row] > to) && !dates.IsNull(row) && !Specials.Is(values[row]))
                Add(FindingKinds.ImplausibleDate, Grade.Warning, ordinal, row, $"implausible dates in {Name(ordinal)}");
    }

    private static ulong DigestOf(string code, FieldType type) => type.Kind == FieldKind.Text
        ? Digest.OfBytes(Encoding.UTF8.GetBytes(code.TrimEnd(' ')))
        : Digest.OfWhole(ValueText.TryWhole(Encoding.UTF8.GetBytes(code), out long number) is null ? number : long.MinValue);

    private void LookAtCodes(int ordinal, HashSet<ulong> known)
    {
        Vector codes = Batch.Vectors[ordinal];
        var texts = codes as BytesVector;
        if (texts is null && codes is not LongVector) return;
        ReadOnlySpan<long> numbers = codes is LongVector longs ? longs.Values : default;
        ulong? before = null;
        for (int row = 0; row < codes.Count; row++)
        {
            if (codes.IsNull(row)) continue;
            ReadOnlySpan<byte> text = texts is null ? default : texts[row].TrimEnd((byte)' ');
            if (texts is not null && text.IsEmpty) continue;
            // One code often follows itself.
            ulong digest = texts is null ? Digest.OfWhole(numbers[row]) : Digest.OfBytes(text);
            if (digest == before) continue;
            if (known.Contains(digest)) before = digest;
            else if (!IsToldAlready(row)) Add(FindingKinds.NotInList, Grade.Warning, ordinal, row,
                $"codes of {Name(ordinal)} that are not in the list");
        }
    }

    private bool HasFault(int row) => Batch.Faults.Exists(fault => fault.Row == row);

    private void LookForBlanks(int ordinal, bool blanksCount)
    {
        Vector values = Batch.Vectors[ordinal];
        BytesVector? texts = blanksCount ? values as BytesVector : null;
        if (texts is null && !values.HasNull) return;
        for (int row = 0; row < values.Count; row++)
        {
            bool blank = values.IsNull(row) ? !HasFault(row)
                : texts is not null && !texts[row].ContainsAnyExcept((byte)' ');
            if (!blank || IsToldAlready(row)) continue;
            _findings.Add(_heads.Of(FindingKinds.Blank, blanksCount ? Grade.Warning : FaultGrade, _scan.Table.Name, Name(ordinal),
                $"records without {Name(ordinal)}, which is required"), _scan.NameOf(row));
        }
    }
}
