// IPersonAsked.cs: the person who is there while a run goes on.
using Transferra.Core.Matching;

namespace Transferra.Core.Runs;

/// <summary>Asks the person who is there for what nobody has explained.</summary>
public interface IPersonAsked
{
    /// <summary>Who answers for it and why; null when nobody does.</summary>
    /// <param name="company">The company.</param>
    /// <param name="what">What it is.</param>
    (string By, string Because)? AnswersFor(string company, Unexplained what);
}
