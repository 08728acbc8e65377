// IRunObserver.cs: hears what is done to an office; words are made of it in the command line only.
using Transferra.Core.Machine;

namespace Transferra.Core.Office;

/// <summary>Hears what a run does; words are made of it in the command line only.</summary>
public interface IRunObserver : IProgressObserver
{
    /// <summary>Something a person should know before it goes on.</summary>
    void Told(string words) { }

    /// <summary>Something went wrong that nobody foresaw; it stopped the company, and is for the diagnostic log.</summary>
    /// <param name="company">The company; "" for none.</param>
    /// <param name="stage">What was being done.</param>
    /// <param name="error">What it was.</param>
    void Defect(string company, string stage, Exception error) { }

    /// <summary>A stage of a company begins.</summary>
    void StageBegins(string company, string stage);

    /// <summary>A stage of a company ended.</summary>
    /// <param name="company">The company.</param>
    /// <param name="stage">The stage.</param>
    /// <param name="state">done, stopped or taken-back.</param>
    /// <param name="summary">One line.</param>
    /// <param name="result">The stage's result, such as a CheckResult; null when it has none.</param>
    void StageEnds(string company, string stage, string state, string summary, object? result);
}
