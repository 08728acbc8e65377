// FaultCode.cs: why a value or a record cannot be carried, each with its wording in one place.
using System.Text.Json.Serialization;
using Transferra.Core.Machine;

namespace Transferra.Core.Records;

/// <summary>Why a value, or the record it stands in, cannot be converted.</summary>
[JsonConverter(typeof(InWords<FaultCode>))]
public enum FaultCode
{
    /// <summary>The text is not a number.</summary>
    NotANumber,
    /// <summary>The text is not a date, or no such day exists.</summary>
    NotADate,
    /// <summary>The text is no time or timestamp.</summary>
    NotATime,
    /// <summary>The number is too large for the column.</summary>
    OutOfRange,
    /// <summary>The number has more decimals than the column, so that it would have to be rounded.</summary>
    NeedsRounding,
    /// <summary>The text is longer than the column.</summary>
    TooLong,
    /// <summary>The value is not a true or false.</summary>
    NotABoolean,
    /// <summary>The text is not a UUID.</summary>
    NotAUuid,
    /// <summary>The bytes are no text in the declared code page.</summary>
    NotText,
    /// <summary>The store holds another kind of value than the column is declared for.</summary>
    WrongKind,
    /// <summary>A value is required and there is none.</summary>
    MissingValue,
    /// <summary>The code is not in the list that the kit gives.</summary>
    NotInList,
    /// <summary>The record points to another that is not there.</summary>
    MissingReference,
    /// <summary>The record points to a key that several others have, so that it is not known which is meant.</summary>
    AmbiguousReference,
    /// <summary>The value is NaN, an infinity, or a date without end, where only finite ones are held or can be computed with.</summary>
    NotFinite,
    /// <summary>Several records share this key and are not the same.</summary>
    ConflictingKey,
    /// <summary>The new store already has a record with this key.</summary>
    DuplicateKey,
    /// <summary>Division by zero.</summary>
    DivisionByZero,
}
