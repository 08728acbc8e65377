// QueryAnswer.cs: what a store answers to a question in its own language.
namespace Transferra.Core.Records;

/// <summary>A question put to the engine in its own language, and what came back: column names and text cells.</summary>
public sealed record QueryAnswer(IReadOnlyList<string> Columns, IReadOnlyList<IReadOnlyList<string?>> Rows);
