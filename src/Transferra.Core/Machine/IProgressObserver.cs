// IProgressObserver.cs: hears how far long work is; words are made of it in the command line only.
namespace Transferra.Core.Machine;

/// <summary>Hears how far a conversion or another scan is.</summary>
public interface IProgressObserver
{
    /// <summary>A number of records of a table has been dealt with.</summary>
    /// <param name="table">The table.</param>
    /// <param name="rows">So far.</param>
    /// <param name="ofRows">In all.</param>
    void Progress(string table, long rows, long ofRows);

    /// <summary>A number of bytes has been dealt with.</summary>
    /// <param name="what">What is being done.</param>
    /// <param name="done">So far.</param>
    /// <param name="of">In all.</param>
    void Bytes(string what, long done, long of) => Progress(what, done, of);
}

/// <summary>Hears nothing.</summary>
public sealed class Silent : IProgressObserver
{
    /// <summary>The one there is.</summary>
    public static IProgressObserver Observer { get; } = new Silent();

    /// <inheritdoc/>
    public void Progress(string table, long rows, long ofRows) { }
}
