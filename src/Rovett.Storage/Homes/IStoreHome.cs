using Rovett.Core.Store;
using Rovett.Storage.Access;
using Rovett.Storage.Sql;

namespace Rovett.Storage.Homes;

/// <summary>Where everything lies that the service stores: a data folder, or a database.</summary>
public interface IStoreHome : IDisposable
{
    /// <summary>The home as people know it, without secrets: the folder, or the server and the database.</summary>
    string Name { get; }

    /// <summary>Opens (and at first makes) the history, to write it.</summary>
    /// <param name="lanes">The most connections to write on, each for spaces of its own.</param>
    /// <param name="failed">Hears why work beside it failed; it is tried again.</param>
    /// <exception cref="StoreException">It can't be used; the message names the fix.</exception>
    IReadOnlyList<SqlLedgerStore> OpenHistory(int lanes, Action<Exception> failed);

    /// <summary>Is told when what was on disk no longer is: this process must end, and another may start.</summary>
    Action<StoreException>? Lost { set; }

    /// <summary>Reads the history beside its writer.</summary>
    SqlHistory ReadHistory();

    /// <summary>Opens (and at first makes) the credentials.</summary>
    /// <exception cref="StoreException">They can't be used; the message names the fix.</exception>
    AccessStore OpenAccess();

    /// <summary>Opens the connect tickets, on a connection that does not wait for the disk. The credentials must be open already.</summary>
    TicketStore OpenTickets();

    /// <summary>Hears what other processes change; null: there can be none. To be asked for before anything else is read.</summary>
    /// <exception cref="StoreException">It can't be used; the message names the fix.</exception>
    IAccessWatch? Watch();

    /// <summary>Makes a space beside others that share the home, from the opening of the history until the first turn has ended;
    /// null: there are no others, and the history's writer makes it.</summary>
    SpaceRow? AddSpace(string name, byte[] key);

    /// <summary>First spaces are made and their credentials kept: others that start may look for theirs.</summary>
    void EndFirstTurn();

    /// <summary>Bytes of the history on disk.</summary>
    long HistoryBytes();

    /// <summary>Bytes of the history's write-ahead log; null: only the server knows.</summary>
    long? LogBytes();

    /// <summary>Bytes that are free on its disk; null: only the server knows.</summary>
    long? FreeBytes();
}
