// ExportImportMeans.cs: the vendor's old program writes the data out, and its new one takes it in. The export is made from a copy of the
// old store, proved, kept with the run and in a backup set, and only then taken in.
// Holds: (1) the old program is given a copy, never the old store; (2) nothing is taken in that is not proved and in a set; (3) what is
// taken in is what was proved, also after a restart.
using System.Globalization;
using System.Text.Json;
using Transferra.Core.Conversion;
using Transferra.Core.Kits;
using Transferra.Core.Machine;
using Transferra.Core.Records;

namespace Transferra.Core.Means;

/// <summary>Converts by the vendor's own export and import.</summary>
internal sealed class ExportImportMeans : IHopMeans
{
    private static readonly IHopMeans[] WritesOut = [new ProgramMeans(), new ByHandMeans()],
        TakesIn = [new ProgramMeans(), new ByHandMeans(), new ServiceMeans()];

    private IHopMeans _export = WritesOut[0], _import = TakesIn[0];
    private HopSurroundings _around = HopSurroundings.None;
    private IReadOnlyList<string> _files = [];
    private IReadOnlyList<CountedFile> _counted = [];
    private string? _into;

    /// <inheritdoc/>
    public string Name => "export-import";

    /// <inheritdoc/>
    public bool GoesByMaps => false;

    /// <inheritdoc/>
    public bool GoesOn => _import.GoesOn;

    /// <inheritdoc/>
    public bool NeedsOwnPlace => _import.NeedsOwnPlace;

    /// <inheritdoc/>
    public bool MayHaveOwnPlace => true;

    /// <inheritdoc/>
    public IReadOnlyList<string> Services => _import.Services;

    /// <inheritdoc/>
    public IReadOnlyList<string> Runs => [.. _export.Runs, .. _import.Runs];

    /// <inheritdoc/>
    public HopSurroundings? AroundExport => _around;

    /// <inheritdoc/>
    IMeans IMeans.With(DescribedMap details)
    {
        DescribedMap? export = details.Map("export", "how the old program writes the data out", required: true),
            import = details.Map("import", "how the new program takes it in", required: true);
        if (export is null || import is null) return this;
        IHopMeans? writes = One(export, WritesOut), takes = One(import, TakesIn);
        IReadOnlyList<PlacedText> files = export.Texts("files");
        if (files.Count == 0) export.Report("\"files\" says what is written out, by names or patterns: [\"*.csv\"]");
        PlacedText? into = export.Optional("into");
        if (into is not null) HopPlaceholders.Check(into, HopPlaceholders.Known, export);
        CountedFile[] counted = [.. export.Maps("records", "a file whose records are counted").Select(Counted)];
        HopSurroundings around = HopSurroundings.Read(export, writes);
        export.Done();
        import.Done();
        return writes is null || takes is null ? this : new ExportImportMeans
        {
            _export = writes,
            _import = takes,
            _around = around,
            _files = [.. files.Select(file => file.Value)],
            _counted = counted,
            _into = into?.Value
        };
    }

    private static IHopMeans? One(DescribedMap map, IHopMeans[] kinds)
    {
        IHopMeans[] named = [.. kinds.Where(kind => map.Has(kind.Name))];
        if (named is not [var kind])
        {
            map.Report($"this is done by exactly one of: {string.Join(", ", kinds.Select(known => known.Name))}");
            return null;
        }
        if (map.Map(kind.Name, $"the {kind.Name}") is not { } details) return null;
        IMeans read = kind.With(details);
        details.Done();
        return (IHopMeans)read;
    }

    private static CountedFile Counted(DescribedMap map)
    {
        string file = map.Text("file").Value, table = map.Text("of").Value;
        int lines = 1;
        if (map.Optional("head-lines") is { } head && !int.TryParse(head.Value, NumberStyles.None, CultureInfo.InvariantCulture, out lines))
            head.Report(map.Errors, $"\"{head}\" is not a number of lines");
        map.Done();
        return new CountedFile(file, table, lines);
    }

    /// <inheritdoc/>
    public void Prepare(HopWork work)
    {
        if (Kept(work) is not null) return;
        Directory.CreateDirectory(work.ExportFolder);
        string folder = _into is null ? work.ExportFolder
            : Path.GetFullPath(HopPlaceholders.Said(_into, HopPlaceholders.Of(work, "")), work.OutputFolder);
        var proof = new ExportProof(folder, _files, _counted, work.Begun);
        // A person may have done it by now.
        ConversionResult written = _export.GoesOn && proof.Missing() is null ? NothingDone : Write(work, proof);
        if (proof.Missing() is { } missing)
            throw new TransferraException($"what the old program wrote out is not what it should be: {missing}",
                "Nothing was taken in. Correct the export, then try again.");
        work.Observer.Progress("proving the export", 0, 0);
        IReadOnlyList<string> counted;
        using (IStore source = work.OpenSource()) counted = proof.Count(source);
        IReadOnlyList<ExportedFile> files = proof.BringTo(work.ExportFolder);
        work.Observer.Progress("the export goes into a backup set", 0, 0);
        Keep(work, new ExportRun(folder, files, counted, work.KeepElsewhere(work.ExportFolder))
        {
            Program = written.Program,
            Steps = written.Steps
        });
    }

    private static ConversionResult NothingDone => new([], [], new Dictionary<string, long>());

    private ConversionResult Write(HopWork work, ExportProof proof)
    {
        HopWork export = work with
        {
            Target = work.ExportCopy,
            Surroundings = _around,
            Office = work.OfficeAround?.Invoke(work.ExportCopy),
            Part = "export-",
            Keeper = new NothingKept(),
            Missing = proof.Missing
        };
        work.RemoveCopy(work.ExportCopy);
        work.Observer.Progress("copying the store for the export", 0, 0);
        work.Stores.Copy(work.Source, work.ExportCopy);
        ConversionResult written = export.Around(() => _export.Convert(export, BuildMark.Start));
        work.RemoveCopy(work.ExportCopy);
        return written;
    }

    private static string PathOf(HopWork work) => work.ExportFolder + ".json";

    // What was proved before, when it is still that.
    private static ExportRun? Kept(HopWork work) => ResultJson.Load(PathOf(work), ExportJson.Form.ExportRun) is { } kept
        && kept.Files.All(file =>
        File.Exists(Path.Combine(work.ExportFolder, file.Name))
        && ExportProof.DigestOf(Path.Combine(work.ExportFolder, file.Name)) == file.Sha256) ? kept : null;

    // Torn, it counts as missing, and the export is made anew.
    private static void Keep(HopWork work, ExportRun run) => File.WriteAllBytes(PathOf(work),
        JsonSerializer.SerializeToUtf8Bytes(run, ExportJson.Form.ExportRun));

    /// <inheritdoc/>
    public ConversionResult Convert(HopWork work, BuildMark from)
    {
        ExportRun kept = Kept(work) ?? throw new TransferraException($"the export in {work.ExportFolder} is not what was proved any more",
            "Go on with transferra upgrade --resume; it is written out again.");
        return _import.Convert(work, from) with { Export = kept };
    }

    // Of a copy that is thrown away nothing is kept.
    private sealed class NothingKept : IHopKeeper
    {
        public BuildMark? Reached => null;
        public bool KeysFirst => false;
        public void Waits(BuildMark mark) { }
        public void StartOver(bool keysFirst) { }
        public void Take(ExceptionRow exception) { }
        public TableAccount? Known(int source, string table) => null;
        public void TableDone(int source, TableAccount account, Func<BuildMark> mark) { }
        public void Completing() { }
    }
}
