// IHopOffice.cs: what a hop asks of the office around it: to stand in the store's own place for a while, and services on or off.
using Transferra.Core.Records;

namespace Transferra.Core.Means;

/// <summary>The office around a hop. What is changed is journaled before, and taken back by Restore, also by another process.</summary>
internal interface IHopOffice
{
    /// <summary>Where the company's store lives.</summary>
    StoreAddress OwnPlace { get; }

    /// <summary>Sets the original aside and puts the copy in its place; fine when that is so already.</summary>
    /// <exception cref="Machine.TransferraException">It cannot be done here, or now.</exception>
    void Lend();

    /// <summary>Lets one account come to the copy, where it is now, and nobody else; fine when that is so already.</summary>
    /// <exception cref="Machine.TransferraException">There is no such account, or it cannot be let in.</exception>
    void LetIn(string account);

    /// <summary>Takes the copy back to where it was made, and puts the original back; fine when that is so already.</summary>
    void TakeHome();

    /// <summary>Turns a service of office.yaml on or off; fine when it is.</summary>
    void Turn(string service, bool on);

    /// <summary>Has everything as it was before the hop.</summary>
    void Restore();
}
