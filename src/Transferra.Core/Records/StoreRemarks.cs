// StoreRemarks.cs: what a store has beside its records, what is doubtful about it, and what its engine says of it.
namespace Transferra.Core.Records;

/// <summary>Something that a store has beside its tables.</summary>
/// <param name="Kind">view, trigger, routine, event, or where counting has come to: sequence, or numbering of a table.</param>
/// <param name="Name">As the store spells it; of a numbering, the table.</param>
/// <param name="Of">The table it belongs to, or the position that counting has come to; "" when neither.</param>
public sealed record StoreObject(string Kind, string Name, string Of = "");

/// <summary>Where a store contradicts itself: it does not add up, whatever is read of it.</summary>
/// <param name="Table">The table.</param>
/// <param name="Records">Records in doubt: counted and not there, or there and not counted; 0 when none are.</param>
/// <param name="What">What contradicts what, one line with file and offset.</param>
public sealed record StoreDoubt(string Table, long Records, string What);

/// <summary>Something odd about a store that is not damage.</summary>
/// <param name="Kind"><see cref="DeletedRecords"/> or <see cref="Odd"/>.</param>
/// <param name="What">One line, with the place.</param>
public sealed record StoreRemark(string Kind, string What)
{
    /// <summary>Kinds of remark, as kinds of finding: many records only marked as deleted, and anything else.</summary>
    public const string DeletedRecords = "deleted-records", Odd = "odd-store";
}
