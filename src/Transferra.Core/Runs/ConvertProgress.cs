// ConvertProgress.cs: how far the conversion of a company has come, so that an interrupted run goes on and need not begin anew:
// convert-progress.json in the run's folder, replaced as a whole at each mark and removed when the stage is done.
// It is a help and no proof: what it says is held against the begun store, and the match reads everything anew.
// Holds: (1) nothing is continued when the kit, the answers, the old store or this program are not those it was begun with.
using System.Security.Cryptography;
using System.Text;
using System.Text.Json;
using Transferra.Core.Conversion;
using Transferra.Core.Kits;
using Transferra.Core.Machine;
using Transferra.Core.Records;

namespace Transferra.Core.Runs;

/// <summary>A table of a source that is through.</summary>
internal sealed record DoneTable(int Source, TableAccount Account);

/// <summary>How far a hop has come.</summary>
/// <param name="Name">The hop's versions, "5-6".</param>
/// <param name="KeysFirst">Whether the new store is made with its keys first.</param>
/// <param name="Mark">What is in the new store; null when nothing is known.</param>
/// <param name="Tables">The tables that are through.</param>
/// <param name="ExceptionsEnd">Where the log of exceptions ended then, in bytes.</param>
/// <param name="Result">What the hop came to; null while it is not through.</param>
internal sealed record HopProgress(string Name, bool KeysFirst, BuildMark? Mark, IReadOnlyList<DoneTable> Tables, long ExceptionsEnd,
    HopResult? Result);

/// <summary>How far a conversion has come.</summary>
/// <param name="Basis">A digest of all it depends on.</param>
/// <param name="Hops">The hops that were begun, in order.</param>
internal sealed record ConvertProgress(string Basis, IReadOnlyList<HopProgress> Hops)
{
    private static string PathOf(CompanyRun on) => Path.Combine(on.ResultFolder, "convert-progress.json");

    /// <summary>Where it was left; nothing when it cannot be continued.</summary>
    public static ConvertProgress Load(CompanyRun on)
    {
        string basis = BasisOf(on);
        return ResultJson.Load(PathOf(on), RunsJson.Form.ConvertProgress) is { Hops: not null } kept && kept.Basis == basis ? kept
            : new ConvertProgress(basis, []);
    }

    /// <summary>Keeps it.</summary>
    public void Save(CompanyRun on) =>
        on.Context.Volume.Replace(PathOf(on), JsonSerializer.SerializeToUtf8Bytes(this, RunsJson.Form.ConvertProgress));

    /// <summary>Forgets it.</summary>
    public static void Forget(CompanyRun on) => on.Context.Volume.Remove(PathOf(on));

    /// <summary>With what is known now of a hop, and nothing of those behind it.</summary>
    public ConvertProgress With(HopProgress hop) =>
        this with { Hops = [.. Hops.TakeWhile(known => known.Name != hop.Name), hop] };

    private static string BasisOf(CompanyRun on)
    {
        var text = new StringBuilder();
        text.Append(on.Context.Tool).Append('\n').Append(on.Run.BegunFact(on.Company.Code, "sha256")).Append('\n');
        foreach ((string name, string answer) in on.Company.Answers.OrderBy(answer => answer.Key, StringComparer.Ordinal))
            text.Append(name).Append('=').Append(answer).Append('\n');
        foreach (Hop hop in on.Way.Hops) text.Append(hop.From.Name).Append(' ').Append(hop.To.Name).Append('\n');
        foreach (string file in Directory.EnumerateFiles(on.Company.Kit.Folder, "*.yaml", SearchOption.AllDirectories)
            .Order(StringComparer.Ordinal))
            text.Append(file).Append('\n').Append(PlainFile.ReadText(file)).Append('\n');
        foreach (FileInfo other in new DirectoryInfo(on.Company.Kit.Folder).EnumerateFiles("*", SearchOption.AllDirectories)
            .Where(file => file.Extension != ".yaml").OrderBy(file => file.FullName, StringComparer.Ordinal))
            text.Append(other.FullName).Append(' ').Append(other.Length).Append(' ').Append(other.LastWriteTimeUtc.Ticks).Append('\n');
        return Convert.ToHexStringLower(SHA256.HashData(Encoding.UTF8.GetBytes(text.ToString())));
    }
}
