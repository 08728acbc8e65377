// PersonalNames.cs: columns that are people's own affair, as their names have it.
using Transferra.Core.Records;

namespace Transferra.Core.Drafting;

/// <summary>Tells them by their names.</summary>
public static class PersonalNames
{
    private static readonly string[] Personal = ["surname", "lastname", "firstname", "forename", "fullname", "address", "addr", "addr1",
        "addr2", "addr3", "street", "phone", "telephone", "tel", "mobile", "email", "mail", "born", "birth", "birthday", "birthdate", "dob",
        "iban", "bic", "salary", "wage", "ssn", "nino", "passport", "password", "religion", "diagnosis", "illness"];

    private static readonly string[] People = ["employee", "employees", "emp", "person", "persons", "people", "patient", "patients",
        "contact", "contacts", "member", "members", "staff", "pupil", "pupils", "student", "students", "user", "users"];

    /// <summary>Whether a column is.</summary>
    /// <param name="table">The table's name: a name of a product is nobody's secret, that of a patient is.</param>
    /// <param name="column">The column.</param>
    public static bool IsPersonal(string table, ColumnShape column) => column.Type.Kind != FieldKind.Boolean
        && (IsByItself(column.Name) || IsNameOfPerson(table, column.Name));

    /// <summary>Whether a column is by its own name.</summary>
    internal static bool IsByItself(string column)
    {
        string[] words = NameLikeness.Words(column);
        return words.Any(Personal.Contains) || Personal.Contains(string.Concat(words));
    }

    /// <summary>Whether it holds names, in a table of people.</summary>
    internal static bool IsNameOfPerson(string table, string column) => EndsAsName(column)
        && NameLikeness.Words(table).Any(People.Contains);

    /// <summary>Whether it holds names of some kind.</summary>
    internal static bool EndsAsName(string column) => NameLikeness.Words(column) is [.., var last]
        && last.EndsWith("name", StringComparison.Ordinal);
}
