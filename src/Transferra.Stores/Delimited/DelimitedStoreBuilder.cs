// DelimitedStoreBuilder.cs: a new folder of delimited text, for packages whose only way in is an import file.
// Holds: (1) a row goes to all its tables or to none; (2) what is written reads back as the same values, missing ones and empty texts
// told apart, or the row is refused; (3) when Complete returns, every file is on the disk; without Complete or a mark, nothing of the
// folder is left.
using Transferra.Core.Machine;
using Transferra.Core.Records;
using Transferra.Stores.Files;

namespace Transferra.Stores.Delimited;

internal sealed class DelimitedStoreBuilder : IStoreBuilder
{
    private readonly string _folder;
    private readonly DelimitedForm _form;
    private readonly List<DelimitedLine> _lines = []; // one for each table that a row goes to
    private readonly GrowingFiles _files;
    private CopyRest? _copy; // null unless the folder began as a copy
    private bool _isKept;

    private DelimitedStoreBuilder(string folder, DelimitedForm form)
    {
        (_folder, _form) = (folder, form);
        _files = new GrowingFiles(PathOf);
    }

    public static DelimitedStoreBuilder Create(StoreAddress address, string? textEncoding)
    {
        if (Path.Exists(address.Path))
            throw new TransferraException($"{address.Path} is there already; a new store is never written over another",
                "Move it away, then try again.");
        var builder = new DelimitedStoreBuilder(address.Path, FormOf(address, textEncoding));
        Directory.CreateDirectory(address.Path);
        return builder;
    }

    /// <summary>Goes on with a folder that was begun.</summary>
    public static DelimitedStoreBuilder Continue(StoreAddress address, IReadOnlyList<TableShape> tables, BuildMark mark,
        string? textEncoding)
    {
        BegunStore.RemoveOthers(address.Path, mark);
        var builder = new DelimitedStoreBuilder(address.Path, FormOf(address, textEncoding)) { _isKept = true, _copy = mark.Copy };
        foreach ((TableShape shape, BuiltTable built) in BegunStore.Tables(address.Path, tables, mark))
            builder._files.Continue(shape.Name, built);
        return builder;
    }

    /// <inheritdoc/>
    public BuildMark Mark()
    {
        _files.Flush();
        new DiskVolume().FlushFolder(_folder);
        _isKept = true;
        return new BuildMark(_files.Built()) { Copy = _copy };
    }

    private string PathOf(string table) => Path.Combine(_folder, table + (_form.Separator == '\t' ? ".tsv" : ".csv"));

    private static DelimitedForm FormOf(StoreAddress address, string? textEncoding)
    {
        DelimitedForm form = DelimitedForm.Standard.With(address.Options);
        return textEncoding is not null && !address.Options.ContainsKey("encoding") ? form with { Encoding = textEncoding } : form;
    }

    /// <summary>Finds rows that would not read back as they are.</summary>
    public static RowRule Judge(StoreAddress address, string? textEncoding)
    {
        var line = new DelimitedLine(FormOf(address, textEncoding));
        return (outputs, rows, rejects) =>
        {
            foreach (int row in rows)
                foreach (TableOutput output in outputs)
                    if (line.Write(output, row) is { } refused)
                    {
                        rejects.Add(refused);
                        break;
                    }
        };
    }

    public void CreateTable(TableShape table)
    {
        table = AnyValue.OneKind(table);
        if (table.Name.Length == 0 || table.Name.AsSpan().IndexOfAny('/', '\0') >= 0)
            throw new TransferraException($"{ValueText.Quote(table.Name)} cannot be the name of a file",
                "Name the table otherwise in the kit's version file.");
        _files.Make(table.Name);
        _files.Add(table.Name, DelimitedLine.EncodingOf(_form).GetPreamble());
        if (!_form.HasHeader) return;
        LinesFor(1)[0].Head(table.Columns);
        _files.Add(table.Name, _lines[0].Bytes);
    }

    private List<DelimitedLine> LinesFor(int tables)
    {
        while (_lines.Count < tables) _lines.Add(new DelimitedLine(_form));
        return _lines;
    }

    public void Write(IReadOnlyList<TableOutput> outputs, ReadOnlySpan<int> rows, List<RowReject> rejects)
    {
        outputs = AnyValue.OneKind(outputs, ref rows, rejects, "delimited text");
        List<DelimitedLine> lines = LinesFor(outputs.Count);
        foreach (int row in rows)
        {
            RowReject? reject = null;
            for (int i = 0; i < outputs.Count && reject is null; i++) reject = lines[i].Write(outputs[i], row);
            if (reject is { } refused)
            {
                rejects.Add(refused);
                continue;
            }
            try
            {
                for (int i = 0; i < outputs.Count; i++)
                {
                    _files.Add(outputs[i].Table.Name, lines[i].Bytes);
                    _files.Count(outputs[i].Table.Name, 1);
                }
            }
            catch (IOException error)
            {
                throw new TransferraException($"writing {_folder} stopped: {error.Message}",
                    "Look for room on the disk and for its health. The old data is untouched; the half-written new store is removed.",
                        error);
            }
        }
    }

    public void Complete(IReadOnlyDictionary<string, string> headerFields)
    {
        _files.Flush();
        _files.Dispose();
        _isKept = true;
    }

    public void Dispose()
    {
        _files.Dispose();
        if (!_isKept && Directory.Exists(_folder)) Directory.Delete(_folder, recursive: true);
    }
}
