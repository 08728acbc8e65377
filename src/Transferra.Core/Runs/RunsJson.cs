// RunsJson.cs: how the results of a run are read and written as JSON (docs/json.md).
using System.Text.Json.Serialization;
using Transferra.Core.Backup;
using Transferra.Core.Checks;
using Transferra.Core.Machine;
using Transferra.Core.Matching;
using Transferra.Core.Mending;

namespace Transferra.Core.Runs;

/// <summary>Results of a run.</summary>
[JsonSourceGenerationOptions(GenerationMode = JsonSourceGenerationMode.Metadata)]
[JsonSerializable(typeof(CheckResult))]
[JsonSerializable(typeof(List<BackupResult>))]
[JsonSerializable(typeof(IReadOnlyList<BackupResult>))]
[JsonSerializable(typeof(List<CarriedFile>))]
[JsonSerializable(typeof(IReadOnlyList<CarriedFile>))]
[JsonSerializable(typeof(ConvertResult))]
[JsonSerializable(typeof(ConvertProgress))]
[JsonSerializable(typeof(WayMatched))]
[JsonSerializable(typeof(RecordedStore))]
[JsonSerializable(typeof(MendResult))]
[JsonSerializable(typeof(List<HopProof>))]
[JsonSerializable(typeof(List<HopSoFar>))]
[JsonSerializable(typeof(Rehearsal))]
[JsonSerializable(typeof(RehearsalMade))]
[JsonSerializable(typeof(RunReport))]
[JsonSerializable(typeof(string[]))]
internal sealed partial class RunsJson : JsonSerializerContext
{
    /// <summary>As they are written.</summary>
    public static readonly RunsJson Form = new(ResultJson.Form(new InWords<ProofGrade>()));
}
