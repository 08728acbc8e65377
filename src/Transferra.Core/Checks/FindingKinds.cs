// FindingKinds.cs: the kinds of finding, each with what it means, where it usually comes from, and what puts it right. docs/findings.md is
// written from this list, and a test compares the two.
using Transferra.Core.Records;

namespace Transferra.Core.Checks;

/// <summary>A kind of finding, explained.</summary>
/// <param name="Kind">Its name.</param>
/// <param name="Meaning">What it means.</param>
/// <param name="Cause">Where it usually comes from.</param>
/// <param name="Remedy">What puts it right.</param>
public sealed record FindingHelp(string Kind, string Meaning, string Cause, string Remedy);

/// <summary>The kinds of finding.</summary>
public static class FindingKinds
{
    /// <summary>The engine itself complains.</summary>
    public const string Damaged = "damaged";
    /// <summary>The new store would not tell its version.</summary>
    public const string VersionSign = "version-sign";
    /// <summary>Many records that are only marked as deleted.</summary>
    public const string DeletedRecords = StoreRemark.DeletedRecords;
    /// <summary>Something odd about the store that is not damage.</summary>
    public const string OddStore = StoreRemark.Odd;
    /// <summary>A table of the kit is not there.</summary>
    public const string TableMissing = "table-missing";
    /// <summary>A column of the kit is not there.</summary>
    public const string ColumnMissing = "column-missing";
    /// <summary>A column is declared otherwise than the kit says.</summary>
    public const string ColumnChanged = "column-changed";
    /// <summary>The key is declared otherwise than the kit says.</summary>
    public const string KeyChanged = "key-changed";
    /// <summary>A table that the kit does not know.</summary>
    public const string TableUnknown = "table-unknown";

    /// <summary>The kit describes no table of the version.</summary>
    public const string TablesAsTheyAre = "tables-as-they-are";
    /// <summary>Something that the store declares and the new one will not have.</summary>
    public const string DeclarationLeft = "declaration-left";
    /// <summary>A column that the kit does not know.</summary>
    public const string ColumnUnknown = "column-unknown";
    /// <summary>Records that are there twice, the same in every column.</summary>
    public const string ExactCopies = "exact-copies";
    /// <summary>Records with the same key that differ.</summary>
    public const string ConflictingKey = "conflicting-key";
    /// <summary>Records that are the same in the business.</summary>
    public const string BusinessKey = "same-business-key";
    /// <summary>Records that point to one that is not there.</summary>
    public const string Orphan = "orphan";
    /// <summary>Records that are parts of themselves.</summary>
    public const string Cycle = "cycle";
    /// <summary>Numbers that are missing in a series.</summary>
    public const string SeriesGap = "series-gap";
    /// <summary>Numbers that are there twice in a series.</summary>
    public const string SeriesRepeat = "series-repeat";
    /// <summary>Bytes that are no text.</summary>
    public const string NotText = "not-text";
    /// <summary>Text that was decoded twice.</summary>
    public const string DecodedTwice = "decoded-twice";
    /// <summary>Characters that no keyboard has.</summary>
    public const string ControlCharacters = "control-characters";
    /// <summary>Numbers that are none.</summary>
    public const string NotANumber = "not-a-number";
    /// <summary>Dates that are none.</summary>
    public const string NotADate = "not-a-date";
    /// <summary>Implausible dates: far outside of any that a person wrote down on purpose.</summary>
    public const string ImplausibleDate = "implausible-date";
    /// <summary>Values that are longer or greater than their column.</summary>
    public const string TooLong = "too-long";
    /// <summary>Codes that are not in the list.</summary>
    public const string NotInList = "not-in-list";
    /// <summary>Values that are required and missing.</summary>
    public const string Blank = "blank";
    /// <summary>Records with another value that cannot be converted.</summary>
    public const string NotConvertible = "not-convertible";
    /// <summary>A rule of the books that does not hold.</summary>
    public const string RuleBroken = "rule-broken";
    /// <summary>A file that a record names and that is not there.</summary>
    public const string DocumentMissing = "document-missing";
    /// <summary>A file that is there under a name in other letters.</summary>
    public const string DocumentMisspelt = "document-misspelt";
    /// <summary>A file that no record names.</summary>
    public const string DocumentUnclaimed = "document-unclaimed";
    /// <summary>A file that cannot be read.</summary>
    public const string DocumentUnreadable = "document-unreadable";
    /// <summary>Something that was too large to look at.</summary>
    public const string NotChecked = "not-checked";

    /// <summary>All kinds, in the order in which a check looks for them.</summary>
    public static readonly IReadOnlyList<FindingHelp> All =
    [
        new(Damaged, "The engine's own full check complains, or the store cannot be read to its end. What can still be read is counted, "
            + "and what is lost is listed by page, offset or range of records.",
            "A disk that fails, a machine that lost its power while it wrote, a file copied while the program was using it, a network "
                + "share that was interrupted.",
            "Go back to the office's own backup of the day before it was damaged. When there is none: transferra check CODE --salvage "
                + "PLACE writes what can be read to a new store; send that and the bundle to the vendor. Have the disk looked at before "
                + "anything is put back on it."),
        new(DeletedRecords, "A fifth or more of a .dbf table's records are only marked as deleted and still take room.",
            "Nobody has had the old program pack its tables for years.",
            "Nothing: records marked as deleted are not carried, and are counted apart. "
                + "Packing in the old program makes the files smaller."),
        new(VersionSign, "The store that the hop makes would not tell its version by the signs that the kit names, "
            + "or would tell another one.",
            "The hop carries the old version's record as it is, or header-fields are not given.",
            "Correct the kit: what tells the new version (told-by), the hop that writes it, or header-fields. Otherwise the new store "
                + "would be taken for another version after the change-over."),
        new(OddStore, "Something about the store is odd, but not damage: two fields with one name, numbers wider than declared, a "
            + "code page that is given twice and differently, a table that the engine cannot check.",
            "Programs write what fits, whatever their own header says.",
            "Usually nothing: the store is read as it really is. Where accents look wrong in a .dbf table, put a .cpg file beside it "
                + "with the name of the right code page."),
        new(TableMissing, "The kit says that this version has the table, and the store has not.",
            "The store is of another version than it says, an earlier upgrade stopped part-way, "
                + "or the path leads to another program's data.",
            "Look at the data version with: transferra survey. Correct the store's path in office.yaml, or ask the vendor."),
        new(ColumnMissing, "The kit says that this version has the column, and the store has not.",
            "An earlier upgrade stopped part-way, or a service pack of this version was never run on this company.",
            "Open the company in the old program once, so that it brings its tables up to date; or ask the vendor."),
        new(ColumnChanged, "The store declares the column as another type than the kit says, or longer.",
            "Somebody widened a field by hand, or a service pack did.",
            "Nothing, as long as no value is reported: each value is read and judged by itself. When values are too long for the new "
                + "version, shorten them in the old one."),
        new(KeyChanged, "The store declares another key for the table than the kit says.",
            "The key was taken off or changed by hand, mostly to get an import through.",
            "Nothing, as long as no copies or conflicts are reported: keys are looked at record by record."),
        new(TableUnknown, "The store has a table that the kit does not know.",
            "An add-on of another vendor keeps its records there, or somebody made it by hand.",
            "It is carried as it is. To leave it out, list it in the kit with the reason. Ask the add-on's vendor whether it works with "
                + "the new version."),
        new(TablesAsTheyAre, "The kit describes no table of this version; all are taken as the store has them.",
            "The vendor converts, and nobody had to write down its tables.",
            "Nothing. The engine's own check, keys, links and texts are looked at all the same; where the kit describes a table, it can "
                + "say what its records must be like."),
        new(DeclarationLeft, "The store declares something that the new one will not have: it begins empty, and "
            + "gets what the kit says of the new version. Other tables keep their columns, keys, counters, defaults, indexes and links as "
            + "far as the new engine takes them.",
            "The company goes to another engine, or the hop says that the new store begins empty.",
            "Look through the list. What the new version needs of it belongs into the kit's version file; the rest stays in the old "
                + "store, which is set aside."),
        new(ColumnUnknown, "The store has a column that the kit does not know: a custom field.",
            "Somebody added it, or an add-on did.",
            "It is carried as it is, under its name. To leave it out or to give it another name, add it to the kit."),
        new(ExactCopies, "Records that are there more than once, the same in every column.",
            "An import was run twice, or a record was saved twice over a slow line.",
            "Where the kit has a rule for them, all but one are left out on the way. Otherwise, and to put the old books right too: "
                + "transferra check CODE --mend, when the kit allows drop-copies."),
        new(ConflictingKey, "Records that share their key and differ. Only one of them could be carried, "
            + "and nobody but the office knows which.",
            "Two workstations gave out the same number, or an index was damaged and let a second record in.",
            "Look at both in the old program and give one a new number, or delete the wrong one."),
        new(BusinessKey, "Records that have different keys, but are the same thing in the business, "
            + "such as one supplier's invoice entered twice.",
            "It was entered by two people, or once from paper and once from an import.",
            "Look at both in the old program; reverse one when it was entered twice."),
        new(Orphan, "Records that point to a record that is not there.",
            "The other was deleted while something still pointed to it, or came from an import that lacked it.",
            "Enter the missing record in the old program, or have these point to another. When they are of no use: transferra check CODE "
                + "--mend sets them aside in a list, when the kit allows it."),
        new(Cycle, "Records that are their own ancestors: a group below itself, a part that is made of itself.",
            "Somebody moved a group below one of its own.",
            "Give one of them another parent in the old program."),
        new(SeriesGap, "Numbers of a series that are missing.",
            "Records were deleted, or a number was given out for one that was never saved. Auditors ask for invoices.",
            "Find out what happened to them and write it down; missing numbers cannot be made up."),
        new(SeriesRepeat, "Numbers of a series that more than one record has.",
            "Two workstations gave out the same number, or the counter was set back.",
            "Give one of the records a new number in the old program."),
        new(NotText, "Bytes that are not text in the code page that the kit declares.",
            "Text was written by another program in another code page, or the record is damaged.",
            "Type the text anew in the old program. When it is nearly all of the text, the kit's text-encoding is wrong; of a single "
                + ".dbf table, a .cpg file beside it says the right one."),
        new(DecodedTwice, "Text that was decoded once too often, so that letters with accents are two or three odd characters.",
            "An import read a UTF-8 file as if it were in the old code page.",
            "transferra check CODE --mend decodes it again, when the kit allows it; otherwise correct it in the old program."),
        new(ControlCharacters, "Characters that no keyboard has: the zero byte, remains of old printers' codes. "
            + "Line ends and tabs are not meant.",
            "Text was pasted from elsewhere, or is left from a program of the seventies.",
            "Mostly harmless. Blanks and such characters at the ends are taken off by transferra check CODE --mend, "
                + "when the kit allows it."),
        new(NotANumber, "Text in a column of numbers that is not a number, such as a letter O for a zero.",
            "The old program let it be typed, or an import brought it.",
            "Correct it in the old program, then check again."),
        new(NotADate, "Text in a column of dates that is not a date, or a day that no calendar has.",
            "The old program let it be typed, or an import had day and month the other way round.",
            "Correct it in the old program, then check again."),
        new(ImplausibleDate, "Dates long before the firm was there, or far in the future.",
            "A wrong century, or a placeholder such as 01/01/1900 or 31/12/9999 that the program itself put in.",
            "Check whether they are intended. The days between which a date is plausible are set in the kit under dates."),
        new(TooLong, "Values that are longer than their column allows, or numbers beyond it or with more decimals.",
            "The column was narrower once, or an import did not look.",
            "Shorten them in the old program; they are never cut on the way."),
        new(NotInList, "Codes that are not in the list.",
            "A kind was deleted while records still had it, or the list in the kit is not complete.",
            "Give the records another code in the old program, or add the code to the kit when it is a right one."),
        new(Blank, "Values that are required and missing.",
            "The old program did not insist on them.",
            "Fill them in in the old program."),
        new(NotConvertible, "Records with another value that the way to the new version cannot convert.",
            "The kit's formula cannot deal with it.",
            "Correct it in the old program; when it is right as it is, correct the kit's formula."),
        new(RuleBroken, "Something that must hold in the books does not: a voucher does not balance, "
            + "a stored total is not the sum of its parts.",
            "The old program was interrupted while it posted, or a record was changed from outside.",
            "Ask whoever keeps the books. Stored totals are recomputed by transferra check CODE --mend, "
                + "when the kit allows it; postings never are."),
        new(DocumentMissing, "A record names a file that is not in the document folder.",
            "The file was deleted or moved, or lies in a folder that office.yaml does not name.",
            "Look for it in older backups; name its folder under documents in office.yaml."),
        new(DocumentMisspelt, "A record names a file that is there, but in other capital or small letters.",
            "The files came from a system that takes both for the same.",
            "Rename the file as the record has it, or the new version will not find it here."),
        new(DocumentUnclaimed, "A file in the document folder that no record names.",
            "Its record was deleted, or the file was put there by hand.",
            "Nothing: it is backed up and kept. Ask whether anybody misses a document."),
        new(DocumentUnreadable, "A file in a document folder that cannot be read to its end.",
            "This user may not read it, or the disk fails there.",
            "Give the right to read it, or fetch it from an older backup. It cannot be backed up as it is."),
        new(NotChecked, "Something that was too large to look at.",
            "A tree of more than four million records.",
            "Have the engine look at it with a query of its own."),
    ];

    /// <summary>The help of a kind; null when there is no such kind.</summary>
    public static FindingHelp? Help(string kind) => All.FirstOrDefault(help => help.Kind == kind);

    /// <summary>Whether a store with a fault of this kind cannot be read as the kit wants it.</summary>
    public static bool StopsReading(string kind) => kind is Damaged or TableMissing or ColumnMissing or ColumnUnknown;
}
