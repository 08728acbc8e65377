// StoreExport.cs: a store of a server as a folder of plain files: a table of delimited text for each table, and store.json that says what
// they were.
// Why text: it can be read in ten years, with nothing but a text editor. Layout: docs/backup-sets.md.
// Holds: (1) every record and every column is in it, as the engine writes the value out, also one that no type of ours could hold, such
// as a date of
// zeros; (2) read with the same types, it gives the same fingerprints as the store; (3) a value that is no text in its code page stops
// the export.
using System.Text;
using System.Text.Json;
using System.Text.RegularExpressions;
using Transferra.Core.Machine;
using Transferra.Core.Records;

namespace Transferra.Core.Backup;

/// <summary>What an exported store was, kept beside its tables.</summary>
/// <param name="Format">transferra-store/1</param>
/// <param name="Engine">The engine's name.</param>
/// <param name="EngineVersion">Its version.</param>
/// <param name="Facts">What it told of the store: character set, owner, file structure.</param>
/// <param name="Tables">Its tables.</param>
/// <param name="Objects">What it has beside tables; only listed here.</param>
/// <param name="Script">All of it in the engine's own words; null when this user may not read that.</param>
/// <param name="NotCarried">What is not in the export.</param>
public sealed record ExportedStore(string Format, string Engine, string EngineVersion, IReadOnlyDictionary<string, string> Facts,
    IReadOnlyList<ExportedTable> Tables, IReadOnlyList<StoreObject> Objects, StoreScript? Script, IReadOnlyList<string> NotCarried);

/// <summary>One table of an exported store.</summary>
/// <param name="Name">As the store spells it.</param>
/// <param name="File">The file with its records.</param>
/// <param name="Records">How many.</param>
/// <param name="Columns">In order; types as the SQL standard writes them.</param>
/// <param name="Key">Columns of the key.</param>
/// <param name="Relations">Links to other tables.</param>
/// <param name="Indexes">Other indexes.</param>
/// <param name="NumberedColumn">The column that numbers itself; null when none.</param>
public sealed record ExportedTable(string Name, string File, long Records, IReadOnlyList<ExportedColumn> Columns, IReadOnlyList<string> Key,
    IReadOnlyList<RelationShape> Relations, IReadOnlyList<IndexShape> Indexes, string? NumberedColumn);

/// <summary>One column of an exported store.</summary>
public sealed record ExportedColumn(string Name, string Type, bool Required, string? Default);

/// <summary>Exports stores of servers and loads them again.</summary>
public static partial class StoreExport
{
    /// <summary>The form this program writes and reads.</summary>
    public const string CurrentFormat = "transferra-store/2";

    /// <summary>The file that describes the export.</summary>
    public const string DescriptionName = "store.json";

    private static readonly Dictionary<string, string> Form = new()
    {
        ["separator"] = ",",
        ["quote"] = "\"",
        ["encoding"] = "utf-8",
        ["header"] = "yes",
        ["decimal-mark"] = ".",
        ["dates"] = "YYYY-MM-DD",
        ["null"] = "\\N",
    };

    /// <summary>Where an export is read: a folder of delimited text.</summary>
    public static StoreAddress At(string folder) => new("delimited", folder, Form);

    /// <summary>Where a store is read after its set was unpacked.</summary>
    /// <param name="store">The store.</param>
    /// <param name="folder">Where the set was unpacked.</param>
    public static StoreAddress Unpacked(SetStore store, string folder)
    {
        string path = Path.Combine(folder, "store", store.Name);
        return StoreAddress.ServerEngines.Contains(store.Engine) ? At(path) : new StoreAddress(store.Engine, path, store.Form.Count > 0
            ? store.Form : null);
    }

    /// <summary>Writes a store into a folder that must not exist.</summary>
    /// <exception cref="TransferraException">A value cannot be written out.</exception>
    public static void Write(IStore store, IStoreOpener stores, string folder, IProgressObserver observer, CancellationToken cancel)
    {
        var tables = new List<ExportedTable>();
        using (IStoreBuilder builder = stores.Create(At(folder)))
        {
            foreach (TableShape table in store.ReadShape())
            {
                string file = FileNameOf(table.Name);
                TableShape written = WrittenOut.Of(table), named = written with { Name = file };
                builder.CreateTable(named);
                long total = store.CountRows(table.Name), rows = 0;
                var rejects = new List<RowReject>();
                int[] all = [];
                foreach (RecordBatch batch in store.Batches(written, [], cancel))
                {
                    if (batch.Faults is [var fault, ..])
                        throw new TransferraException($"a value of {table.Name}.{fault.Column} cannot be written out: {fault.Reason}",
                            "Correct text-encoding in the kit's version file, or the record in the old program.");
                    if (all.Length < batch.RowCount) all = [.. Enumerable.Range(0, batch.RowCount)];
                    builder.Write([new TableOutput(named, batch.Vectors)], all.AsSpan(0, batch.RowCount), rejects);
                    if (rejects is [var reject, ..])
                        throw new TransferraException($"a record of {table.Name} cannot be written out: {reject.Reason}", "Report this.");
                    observer.Progress(table.Name, rows += batch.RowCount, total);
                }
                if (rows != total)
                    throw new TransferraException($"{table.Name} has {total} records, and {rows} were written out",
                        "Somebody may be writing to it; close the program on all workstations, then try again.");
                tables.Add(new ExportedTable(table.Name, file + ".csv", rows,
                    [.. table.Columns.Select(column => new ExportedColumn(column.Name, column.Type.ToString(), column.Required,
                        column.Default))],
                    table.Key, table.Relations, table.Indexes, table.NumberedColumn));
            }
            builder.Complete(new Dictionary<string, string>());
        }
        var description = new ExportedStore(CurrentFormat, store.Identity.Engine, store.Identity.EngineVersion,
            store.Identity.HeaderFields, tables,
            store.ListObjects(), store.ReadScript(folder), store.NotCarried());
        File.WriteAllBytes(Path.Combine(folder, DescriptionName),
            JsonSerializer.SerializeToUtf8Bytes(description, SetJson.Form.ExportedStore));
    }

    /// <summary>Loads an export into a new store: as it was when the engine is the same, with types of ours when it is another.</summary>
    /// <param name="folder">The export.</param>
    /// <param name="stores">Opens and makes stores.</param>
    /// <param name="into">The new store; must not exist.</param>
    /// <param name="observer">Hears the progress.</param>
    /// <param name="cancel">Stops between two batches.</param>
    /// <returns>What could not be brought back beside the records, such as rights of somebody who is not there.</returns>
    /// <exception cref="TransferraException">A value does not fit its column, or the folder is not an export.</exception>
    public static IReadOnlyList<string> Load(string folder, IStoreOpener stores, StoreAddress into, IProgressObserver observer,
        CancellationToken cancel)
    {
        ExportedStore description = Describe(folder);
        using IStore export = stores.Open(At(folder));
        TableShape[] shapes = [.. description.Tables.Select(ShapeOf)];
        // A default is written as the engine had it, so it is only made again by the same engine, and only when it is a plain value: what
        // it calls may not be there.
        bool sameEngine = string.Equals(description.Engine, into.Engine, StringComparison.OrdinalIgnoreCase);
        using IStoreBuilder builder = sameEngine && description.Script is { } script ? stores.Rebuild(into, script, folder)
            : stores.Create(into);
        if (builder.TakesWritten) shapes = [.. shapes.Select(shape =>
            shape with { Columns = [.. shape.Columns.Select(column => column with { Type = WrittenOut.Of(column.Type) })] })];
        shapes = [.. shapes.Select(shape =>
            shape with { Columns = [.. shape.Columns.Select(column => sameEngine && column.Default is { } value && PlainDefault()
                .IsMatch(value)
            ? column : column with { Default = null })] })];
        var left = new NotHeld(sameEngine ? [] : stores.JudgeOf(into).Complaints(shapes));
        if (!left.IsEmpty) throw left.Told(into);
        foreach (TableShape shape in shapes) builder.CreateTable(shape);
        foreach ((TableShape shape, ExportedTable table) in shapes.Zip(description.Tables))
        {
            long rows = 0;
            var rejects = new List<RowReject>();
            foreach (RecordBatch batch in export.Batches(shape with { Name = Path.GetFileNameWithoutExtension(table.File) }, [], cancel))
            {
                // The same engine takes back what it gave; what another cannot hold is told all at once.
                foreach (RowFault fault in batch.Faults) left.Add(shape.Name, $"{fault.Column}: {fault.Reason}");
                var unread = batch.Faults.Select(fault => fault.Row).ToHashSet();
                builder.Write([new TableOutput(shape, batch.Vectors)],
                    [.. Enumerable.Range(0, batch.RowCount).Where(row => !unread.Contains(row))], rejects);
                foreach (RowReject reject in rejects) left.Add(shape.Name, reject.Reason);
                rejects.Clear();
                if (sameEngine && !left.IsEmpty) throw left.Told(into);
                observer.Progress(shape.Name, rows += batch.RowCount, table.Records);
            }
            if (rows != table.Records)
                throw new TransferraException($"the export of {shape.Name} has {rows} records and should have {table.Records}",
                    "The set is damaged; use another one.");
        }
        if (!left.IsEmpty) throw left.Told(into);
        builder.Complete(new Dictionary<string, string>());
        return [.. builder.Remarks, .. sameEngine && description.Script is not null
            ? [] : description.Objects.Where(entry => entry.Kind is not ("sequence" or "numbering"))
            .Select(entry => $"{entry.Kind} {entry.Name}: only {description.Engine} can make it again")];
    }

    /// <summary>What an export says of itself.</summary>
    /// <exception cref="TransferraException">The folder is not an export.</exception>
    public static ExportedStore Describe(string folder)
    {
        string path = Path.Combine(folder, DescriptionName);
        try
        {
            ExportedStore? description = JsonSerializer.Deserialize(File.ReadAllBytes(path), SetJson.Form.ExportedStore);
            return description?.Format == CurrentFormat ? description
                : throw new TransferraException($"{path} has the form {description?.Format ?? "(none)"}; "
                    + $"this program reads {CurrentFormat}",
                    "Use the version of Transferra that wrote it.");
        }
        catch (Exception error) when (error is JsonException or IOException)
        {
            throw new TransferraException($"{path} cannot be read: {error.Message}", "The set is damaged; use another one.", error);
        }
    }

    private static TableShape ShapeOf(ExportedTable table) => new(table.Name,
        [.. table.Columns.Select(column => FieldType.TryParse(column.Type, out FieldType type) ? new ColumnShape(column.Name, type,
            column.Required, Default: column.Default)
            : throw new TransferraException($"{table.Name}.{column.Name} has the type {column.Type}, which is not known here",
                "Use the version of Transferra that wrote it."))],
        table.Key, table.Relations)
    { Indexes = [.. table.Indexes.Where(index => index.Columns.Count > 0)], NumberedColumn = table.NumberedColumn };

    // A number, a quoted text, TRUE or FALSE, or the time of day as SQL names it; PostgreSQL adds the type.
    [GeneratedRegex(@"^('([^']|'')*'|-?[0-9]+(\.[0-9]+)?|true|false|current_(date|time|timestamp)(\(\))?|now\(\))"
        + @"(::[a-z ]+(\([0-9]+\))?)?$",
        RegexOptions.IgnoreCase | RegexOptions.CultureInvariant)]
    private static partial Regex PlainDefault();

    // Any table's name becomes a file's: what a name of a file may not have is written as percent and hexadecimal digits.
    private static string FileNameOf(string table)
    {
        var name = new StringBuilder();
        foreach (char character in table)
            if (character is '/' or '%' or '\0' or '\\' || (character == '.' && name.Length == 0))
                name.Append(System.Globalization.CultureInfo.InvariantCulture, $"%{(int)character:X2}");
            else name.Append(character);
        return name.ToString();
    }
}
