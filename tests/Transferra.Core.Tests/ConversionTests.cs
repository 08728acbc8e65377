using System.Globalization;
using FsCheck;
using FsCheck.Fluent;
using Transferra.Core.Conversion;
using Transferra.Core.Kits;
using Transferra.Core.Machine;
using Transferra.Core.Records;
using Transferra.Tests;

namespace Transferra.Core.Tests;

public class ConversionTests
{
    private readonly Correspondence _hop = SampleKit.LoadHop();
    private readonly List<ExceptionRow> _exceptions = [];
    private readonly MemoryStore _new = new();

    private TableAccount Convert(params object?[][] parts)
    {
        using MemoryStore old = SampleKit.Store(_hop, parts);
        ConversionResult result = ConversionPass.Run(old, _new, _hop, SampleKit.Settings, _exceptions.Add, new ListObserver(),
            CancellationToken.None);
        Assert.All(result.Accounts, account => Assert.True(account.IsBalanced));
        Assert.True(_new.IsComplete);
        return result.Accounts.Single(account => account.Table == "PART");
    }

    private static (long, long, long, long, long, long) Five(TableAccount account) =>
        (account.Read, account.Carried, account.Changed, account.Combined, account.LeftOut, account.Exceptions);

    private sealed class KnowingKeeper(Dictionary<(int, string), TableAccount> known) : IConversionKeeper
    {
        public void Completing() => Seen.Add("completing");

        public List<string> Seen { get; } = [];

        public void Take(ExceptionRow exception) => Seen.Add($"exception {exception.Table} {string.Join(",", exception.KeyValues)}");

        public TableAccount? Known(int source, string table) => known.GetValueOrDefault((source, table));

        public void TableDone(int source, TableAccount account, Func<BuildMark> mark) =>
            Seen.Add(string.Create(CultureInfo.InvariantCulture,
                $"{source} {account.Table} {account.Read}, in the store {mark().Tables.Sum(table => table.Value.Rows)}"));
    }

    [Fact] // as when several years become one company
    public void Several_sources_go_into_one_store_table_by_table_and_what_is_known_is_not_converted_again()
    {
        using MemoryStore first = SampleKit.Store(_hop, SampleKit.Part(1, "a"), SampleKit.Part(2, "b"));
        using MemoryStore second = SampleKit.Store(_hop, SampleKit.Part(3, "c"), SampleKit.Part(2, "b again"));
        var keeper = new KnowingKeeper(new()
        {
            [(1, "GRP")] = new TableAccount("GRP", 2, 2, 0, 0, 0, 0, new Dictionary<string, long>(), new Dictionary<string, long>()),
            [(1, "MEMO")] = new TableAccount("MEMO", 0, 0, 0, 0, 0, 0, new Dictionary<string, long>(), new Dictionary<string, long>()),
        });
        var pass = new ConversionPass(_new, _hop.To, SampleKit.Settings, keeper, new ListObserver(), CancellationToken.None);
        pass.Take(first, _hop);
        pass.Take(second, _hop);
        ConversionResult result = pass.Complete(_hop);
        Assert.True(_new.IsComplete);
        Assert.Equal("completing", keeper.Seen[^1]);
        Assert.Equal([1L, 2L, 3L], _new.Tables["part"].Rows.Select(row => row[0]));
        Assert.Equal(1, result.Exceptions);
        Assert.Equal(["exception PART [PNO, 2]"], keeper.Seen.Where(seen => seen.StartsWith('e')));
        Assert.Equal(["0 PART 2", "1 PART 2"], keeper.Seen.Where(seen => seen.Contains(" PART ", StringComparison.Ordinal)
            && !seen.StartsWith('e')).Select(seen => seen.Split(',')[0]));
        Assert.DoesNotContain(keeper.Seen, seen => seen.StartsWith("1 GRP", StringComparison.Ordinal));
    }

    [Fact]
    public void A_sound_record_arrives_in_both_tables_with_every_value()
    {
        TableAccount account = Convert(SampleKit.Part(5, "Scroll  ", "12.50"));
        Assert.Equal((1, 0, 1, 0, 0, 0), Five(account));
        Assert.Equal([5L, "Scroll", (Int128)1250, "string", new DateOnly(2020, 2, 1), "Violins"], Assert.Single(_new.Tables["part"].Rows));
        Assert.Equal(["Scroll", 5L], Assert.Single(_new.Tables["part_name"].Rows));
        Assert.Equal(2, account.Rules["blanks removed"]); // one record, two columns
        Assert.Equal(["scheme", "a"], Assert.Single(_new.Tables["setting"].Rows));
    }

    [Fact]
    public void Lines_become_one_text_in_key_order()
    {
        Convert();
        Assert.Equal([["M1", "case/bow"], ["M2", "reed"]], _new.Tables["memo"].Rows);
    }

    [Theory]
    [InlineData("x", "1.00", "S", "01/02/20", 1L, FaultCode.NotANumber, "PRICE", "part.price", "")]
    [InlineData("x", "1.00", "S", "30/02/20", 1L, FaultCode.NotADate, "MADE", "part.made_on", "30/02/20")]
    [InlineData("x", "1.00", "Z", "01/02/20", 1L, FaultCode.NotInList, "KIND", "part.kind", "Z")]
    [InlineData("x", "1.00", "S", "01/02/20", 9L, FaultCode.MissingReference, "GROUPNO", "part.group_title", "9")]
    [InlineData(null, "1.00", "S", "01/02/20", 1L, FaultCode.MissingValue, "NAME", "part.name", "")]
    public void One_bad_value_is_one_exception_and_the_others_go_on(string? name, string price, string kind, string made, long group,
        FaultCode code,
        string column, string into, string value)
    {
        if (code == FaultCode.NotANumber) (price, value) = ("1,00", "1,00");
        TableAccount account = Convert(SampleKit.Part(1, "good"), SampleKit.Part(2, name, price, kind, made, group),
            SampleKit.Part(3, "also good"));
        Assert.Equal(1, account.Exceptions);
        Assert.Equal([1L, 3L], _new.Tables["part"].Rows.Select(row => row[0]));
        Assert.Equal(2, _new.Tables["part_name"].Rows.Count);
        ExceptionRow exception = Assert.Single(_exceptions);
        Assert.Equal(("PART", "2"), (exception.Table, exception.Key));
        Assert.Equal((column, into, code, value), (exception.Causes[0].Column, exception.Causes[0].Into, exception.Causes[0].Code,
            exception.Causes[0].Value));
    }

    [Fact]
    public void An_exception_names_every_cause()
    {
        Convert(SampleKit.Part(2, "x", "abc", "Z", "99/99/99", 7));
        Assert.Equal([FaultCode.NotANumber, FaultCode.NotInList, FaultCode.NotADate, FaultCode.MissingReference],
            Assert.Single(_exceptions).Causes.Select(cause => cause.Code));
    }

    [Theory] // a lookup of a key that two records have is used only where both say the same
    [InlineData("Violas", FaultCode.AmbiguousReference)]
    [InlineData("Violins", null)]
    public void A_key_that_several_records_have_is_not_guessed(string otherTitle, FaultCode? expected)
    {
        using MemoryStore old = SampleKit.Store(_hop, SampleKit.Part(1, "a"), SampleKit.Part(2, "b", group: 2));
        old.With(_hop.From.Table("GRP")!, [1L, "Violins"], [2L, "Horns"], [1L, otherTitle]);
        ConversionPass.Run(old, _new, _hop, SampleKit.Settings, _exceptions.Add, new ListObserver(), CancellationToken.None);
        ExceptionCause[] causes = [.. _exceptions.Where(exception => exception.Table == "PART").SelectMany(exception => exception.Causes)];
        Assert.Equal(expected is null ? [] : new[] { expected.Value }, causes.Select(cause => cause.Code));
        Assert.Equal(expected is null ? [1L, 2L] : new object[] { 2L }, _new.Tables["part"].Rows.Select(row => row[0]));
        if (expected is not null) Assert.Contains("several records of GRP have \"1\"", causes[0].Reason, StringComparison.Ordinal);
    }

    [Fact]
    public void Exact_copies_are_left_out_by_rule_and_conflicts_are_exceptions()
    {
        TableAccount account = Convert(SampleKit.Part(1, "a"), SampleKit.Part(1, "a"), SampleKit.Part(1, "a"), SampleKit.Part(2, "b"),
            SampleKit.Part(2, "c"));
        Assert.Equal((5, 0, 1, 0, 2, 2), Five(account));
        Assert.Equal(2, account.Rules["double import"]);
        Assert.All(_exceptions, exception => Assert.Equal(FaultCode.ConflictingKey, exception.Causes[0].Code));
    }

    [Fact]
    public void Records_are_left_out_only_by_declared_rule()
    {
        TableAccount account = Convert(SampleKit.Part(1, "VOID", price: "rubbish"), SampleKit.Part(2, "b"));
        Assert.Equal((2, 0, 1, 0, 1, 0), Five(account));
        Assert.Equal(1, account.Rules["voided"]);
    }

    [Fact]
    public void A_record_the_new_store_refuses_is_an_exception_and_is_in_none_of_its_tables()
    {
        TableAccount account = Convert(SampleKit.Part(1, "same"), SampleKit.Part(2, "same "));
        Assert.Equal((2, 0, 1, 0, 0, 1), Five(account));
        Assert.Equal([1L], _new.Tables["part"].Rows.Select(row => row[0]));
        Assert.Equal(FaultCode.DuplicateKey, Assert.Single(_exceptions).Causes[0].Code);
    }

    [Fact]
    public void What_was_to_join_an_exception_is_one_too()
    {
        Correspondence hop = SampleKit.Load(SampleKit.Hop.Replace("reference: REF", "reference: {is: \"NULLIF(REF, 'M1')\", changes: test}",
            StringComparison.Ordinal)).Hops[0].Correspondence;
        using MemoryStore old = SampleKit.Store(hop);
        TableAccount memo = ConversionPass.Run(old, _new, hop, SampleKit.Settings, _exceptions.Add, new ListObserver(),
            CancellationToken.None).Accounts.Single(account => account.Table == "MEMO");
        Assert.Equal((3, 1, 0, 0, 0, 2), Five(memo));
    }

    [Fact]
    public void A_failing_store_ends_the_conversion_with_its_own_words()
    {
        using MemoryStore old = SampleKit.Store(_hop, SampleKit.Part(1, "a"));
        old.Tables.Remove("GRP"); // the lookup cannot be read
        Assert.Throws<KeyNotFoundException>(() => ConversionPass.Run(old, _new, _hop, SampleKit.Settings, _exceptions.Add,
            new ListObserver(), CancellationToken.None));
        Assert.False(_new.IsComplete);
    }

    // Whatever the records and however they fall into batches, the five add up, and nothing is in the new store that should not be.
    [Fact]
    public void The_five_always_add_up() => Check.One(Config.QuickThrowOnFailure.WithMaxTest(60), Prop.ForAll(
        (from number in Gen.Choose(1, 30)
         from name in Gen.Elements("a", "b", "VOID", "same", "same ", null!)
         from price in Gen.Elements("1.00", "2.50", "x", null!)
         from kind in Gen.Elements("S", "W", "?")
         select SampleKit.Part(number, name + number.ToString(System.Globalization.CultureInfo.InvariantCulture), price, kind)).ListOf()
             .ToArbitrary(), parts =>
    {
        using MemoryStore old = SampleKit.Store(_hop, [.. parts]);
        using var renewed = new MemoryStore();
        var exceptions = new List<ExceptionRow>();
        TableAccount account = ConversionPass.Run(old, renewed, _hop, SampleKit.Settings, exceptions.Add, new ListObserver(),
            CancellationToken.None).Accounts[0];
        return account.IsBalanced && account.Read == parts.Count
            && exceptions.Count(exception => exception.Table == "PART") == account.Exceptions
            && renewed.Tables["part"].Rows.Count == account.Carried + account.Changed
                && renewed.Tables["part_name"].Rows.Count == account.Carried + account.Changed;
    }));
}

public class KeyGroupedReaderTests
{
    private static readonly TableShape Table = new("T", [new("K", FieldType.Integer), new("V", FieldType.Integer)], ["K"], []);

    [Fact]
    public void Every_row_is_delivered_once_and_no_key_is_torn_whatever_the_batch_size() =>
        Check.One(Config.QuickThrowOnFailure.WithMaxTest(300), Prop.ForAll(
        Gen.Choose(1, 6).ListOf().ToArbitrary(), Gen.Choose(3, 9).ToArbitrary(), (groups, size) =>
        {
            object?[][] rows = [.. groups.SelectMany((length, key) => Enumerable.Range(0, length)
                .Select(value => new object?[] { (long)key, (long)value }))];
            using var store = new MemoryStore().With(Table, rows);
            using var reader = new KeyGroupedReader(store.Read(Table, ["K"]), "T", Table.Columns, [0]);
            var batch = new RecordBatch(Table.Columns, new BatchLimits(size, long.MaxValue));
            var seen = new List<object?[]>();
            var keys = new HashSet<long>();
            while (reader.Fill(batch))
            {
                foreach (long key in new HashSet<long>(((LongVector)batch.Vectors[0]).Values.ToArray()))
                    if (!keys.Add(key)) return false;
                for (int row = 0; row < batch.RowCount; row++) seen.Add([MemoryStore.Value(batch.Vectors[0], row),
                    MemoryStore.Value(batch.Vectors[1], row)]);
            }
            return seen.Count == rows.Length && seen.Zip(rows).All(pair => pair.First.SequenceEqual(pair.Second));
        }));

    [Fact]
    public void A_key_that_thousands_share_is_refused_in_words()
    {
        using var store = new MemoryStore().With(Table, [.. Enumerable.Range(0, 100).Select(value => new object?[] { 1L, (long)value })]);
        using var reader = new KeyGroupedReader(store.Read(Table, ["K"]), "T", Table.Columns, [0]);
        var batch = new RecordBatch(Table.Columns, new BatchLimits(5, long.MaxValue));
        Assert.Contains("share the key", Assert.Throws<TransferraException>(() => reader.Fill(batch)).Message, StringComparison.Ordinal);
    }

    [Fact]
    public void Cell_faults_stay_with_their_row_when_it_waits_for_the_next_batch()
    {
        var batch = new RecordBatch(Table.Columns);
        foreach (long key in (long[])[1, 2, 3]) { MemoryStore.Append(batch.Vectors[0], key); batch.Vectors[1].AppendNull(); }
        batch.Faults.Add(new RowFault(2, FaultCode.WrongKind, "V", "x", "why"));
        var next = new RecordBatch(Table.Columns);
        next.AppendRows(batch, 2);
        batch.Truncate(2);
        Assert.Empty(batch.Faults);
        Assert.Equal(0, Assert.Single(next.Faults).Row);
    }
}
