// CliJson.cs: how what commands answer is written as JSON (docs/json.md).
// Holds: whatever a command answers is known here: a test looks at every call in the built program.
using System.Text.Json.Serialization;
using Transferra.Cli.Commands;
using Transferra.Core.Backup;
using Transferra.Core.Checks;
using Transferra.Core.Closing;
using Transferra.Core.Gates;
using Transferra.Core.Kits;
using Transferra.Core.Machine;
using Transferra.Core.Runs;
using Transferra.Core.Support;
using Transferra.Core.Surveys;

namespace Transferra.Cli;

/// <summary>What commands answer, and what of it is read again.</summary>
[JsonSourceGenerationOptions(GenerationMode = JsonSourceGenerationMode.Metadata)]
[JsonSerializable(typeof(bool))]
[JsonSerializable(typeof(ClosedTimeOfCompany[]))]
[JsonSerializable(typeof(ClosingOutcome))]
[JsonSerializable(typeof(CompanyOutcome))]
[JsonSerializable(typeof(Dictionary<string, string>))]
[JsonSerializable(typeof(FindingHelp))]
[JsonSerializable(typeof(Gate[]))]
[JsonSerializable(typeof(IEnumerable<KitCommand.Shown>))]
[JsonSerializable(typeof(IEnumerable<string>))]
[JsonSerializable(typeof(int))]
[JsonSerializable(typeof(IReadOnlyDictionary<string, string>))]
[JsonSerializable(typeof(IReadOnlyList<DescriptionError>))]
[JsonSerializable(typeof(IReadOnlyList<FindingHelp>))]
[JsonSerializable(typeof(IReadOnlyList<Gate>))]
[JsonSerializable(typeof(IReadOnlyList<NotReopened>))]
[JsonSerializable(typeof(IReadOnlyList<PersonIn>))]
[JsonSerializable(typeof(IReadOnlyList<string>))]
[JsonSerializable(typeof(IReadOnlyList<SurveyDifference>))]
[JsonSerializable(typeof(IReadOnlyList<UnlistedStore>))]
[JsonSerializable(typeof(JsonFacts))]
[JsonSerializable(typeof(KitCommand.Drafted))]
[JsonSerializable(typeof(KitPackCommand.Packed))]
[JsonSerializable(typeof(KitPackCommand.Taken))]
[JsonSerializable(typeof(List<BackupCommand.CompanyBackedUp>))]
[JsonSerializable(typeof(List<BundleResult>))]
[JsonSerializable(typeof(List<CheckCommand.CompanyChecked>))]
[JsonSerializable(typeof(List<HealResult>))]
[JsonSerializable(typeof(List<JsonFacts>))]
[JsonSerializable(typeof(List<KitCommand.Checked>))]
[JsonSerializable(typeof(List<MatchCommand.CompanyMatched>))]
[JsonSerializable(typeof(List<SetProof>))]
[JsonSerializable(typeof(List<string>))]
[JsonSerializable(typeof(MatchBaseline.BaselineMatched))]
[JsonSerializable(typeof(MatchCommand.BareMatched))]
[JsonSerializable(typeof(MatchPrinted.PrintedAnswer))]
[JsonSerializable(typeof(MendCommand.Salvaged))]
[JsonSerializable(typeof(NotReopened[]))]
[JsonSerializable(typeof(OfficeSurvey))]
[JsonSerializable(typeof(Rehearsal))]
[JsonSerializable(typeof(RestoreCommand.Restored))]
[JsonSerializable(typeof(RestoreCommand.RestoredDatabase))]
[JsonSerializable(typeof(RestoreCommand.RestoredSome))]
[JsonSerializable(typeof(RunReport))]
[JsonSerializable(typeof(SealChecked))]
[JsonSerializable(typeof(SetManifest))]
[JsonSerializable(typeof(SetsCommand.SetListed[]))]
[JsonSerializable(typeof(SetsCommand.SetOutOfReach[]))]
[JsonSerializable(typeof(string))]
[JsonSerializable(typeof(string[]))]
internal sealed partial class CliJson : JsonSerializerContext
{
    /// <summary>As it is written.</summary>
    public static readonly CliJson Form = new(ResultJson.Form(new InWords<ProofGrade>()));
}
