// IStoreOpener.cs: opens stores of every engine; the door through which Core reaches them.
using Transferra.Core.Machine;

namespace Transferra.Core.Records;

/// <summary>Opens and creates stores. Filled in by Transferra.Stores.</summary>
public interface IStoreOpener
{
    /// <summary>Opens a store for reading.</summary>
    /// <param name="address">Where it is.</param>
    /// <param name="textEncoding">Name of the code page its text is in; null for UTF-8.</param>
    /// <exception cref="TransferraException">Missing, empty, foreign, damaged beyond opening, or locked.</exception>
    IStore Open(StoreAddress address, string? textEncoding = null);

    /// <summary>Starts a new, empty store in a file, folder or database that must not exist.</summary>
    /// <param name="address">Where.</param>
    /// <param name="textEncoding">Name of the code page to write text in; null for UTF-8.</param>
    /// <param name="keysFirst">Whether a record whose key is there already is refused when it comes. Some engines load faster when keys
    /// are built at the end; those then throw <see cref="KeyConflictException"/> when the keys do not allow it.</param>
    IStoreBuilder Create(StoreAddress address, string? textEncoding = null, bool keysFirst = false);

    /// <summary>Goes on with a store that was begun and not completed. What was written after the mark is gone.</summary>
    /// <param name="address">Where it is.</param>
    /// <param name="tables">Shapes of at least the tables that the mark names.</param>
    /// <param name="mark">What <see cref="IStoreBuilder.Mark"/> last gave.</param>
    /// <param name="textEncoding">As it was created.</param>
    /// <param name="keysFirst">As it was created.</param>
    /// <exception cref="CannotContinueException">It is not there, or cannot be brought back to the mark; begin anew.</exception>
    IStoreBuilder Continue(StoreAddress address, IReadOnlyList<TableShape> tables, BuildMark mark, string? textEncoding = null,
        bool keysFirst = false);

    /// <summary>What a new store would not take, known without making it.</summary>
    /// <param name="address">Where it would be.</param>
    /// <param name="textEncoding">Name of the code page its text would be in; null for UTF-8.</param>
    IStoreJudge JudgeOf(StoreAddress address, string? textEncoding = null) => new TakesAll();

    /// <summary>Makes a store again from what <see cref="IStore.ReadScript"/> read, under a name that is free. Its tables are there at
    /// once; CreateTable tells only what will be written to one.</summary>
    /// <param name="address">Where; of the engine the script was read from.</param>
    /// <param name="script">The script.</param>
    /// <param name="folder">Where the script's file is.</param>
    IStoreBuilder Rebuild(StoreAddress address, StoreScript script, string folder);

    /// <summary>Adds the rights that <see cref="Rebuild"/> left out because they belong to the name that a store is to have in the
    /// end.</summary>
    /// <returns>What could not be added.</returns>
    IReadOnlyList<string> AddRights(StoreAddress address, StoreScript script);

    /// <summary>Makes an exact copy of a store, with everything that is in it, under a name that is free.</summary>
    /// <param name="from">Nobody must be writing to it.</param>
    /// <param name="to">Of the same engine, and on the same server.</param>
    /// <exception cref="TransferraException">It cannot be copied so that nothing is missing.</exception>
    void Copy(StoreAddress from, StoreAddress to);

    /// <summary>Makes a copy that <see cref="Revise"/> is the next to touch: records that it would take out need not be in it.</summary>
    /// <param name="from">Nobody must be writing to it.</param>
    /// <param name="to">Of the same engine, and on the same server.</param>
    /// <param name="revision">What is to be done to the copy.</param>
    /// <exception cref="TransferraException">It cannot be copied so that nothing else is missing.</exception>
    void CopyToRevise(StoreAddress from, StoreAddress to, StoreRevision revision) => Copy(from, to);

    /// <summary>Makes a copy of an old store ready for the new version: tables that are to be filled anew are emptied and get their new
    /// form, those that are gone are removed, all else stays. <see cref="Continue"/> goes on from there.</summary>
    /// <param name="copy">One that Copy or CopyToRevise made; nobody has it open.</param>
    /// <param name="revision">What is to be done.</param>
    /// <param name="textEncoding">The code page of its text; null for UTF-8.</param>
    /// <exception cref="TransferraException">The engine refuses something; the copy is of no use then.</exception>
    BuildMark Revise(StoreAddress copy, StoreRevision revision, string? textEncoding = null);

    /// <summary>Opens a copy of a store to have scripts run in it.</summary>
    /// <param name="copy">One that Copy made; its engine runs SQL.</param>
    IScriptRunner RunScripts(StoreAddress copy);

    /// <summary>Opens a copy of a store to put records right in it.</summary>
    /// <param name="copy">One that Copy made.</param>
    /// <param name="textEncoding">The code page of its text; null for UTF-8.</param>
    IStoreMender Mend(StoreAddress copy, string? textEncoding);

    /// <summary>The files a store consists of, as they are now: the main file first, or those of its folder by name; none for one on a
    /// server.</summary>
    IReadOnlyList<string> FilesOf(StoreAddress address);

    /// <summary>The server that keeps a store.</summary>
    /// <param name="address">One whose <see cref="StoreAddress.Server"/> is given.</param>
    IStoreServer ServerOf(StoreAddress address);

    /// <summary>Ends what is kept open to servers for the next question: before others work with a store, and at the end of a
    /// command.</summary>
    void LetGo();
}
