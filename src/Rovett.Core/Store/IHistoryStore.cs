namespace Rovett.Core.Store;

/// <summary>Reads what is stored: any number of threads; never waits for the writer, and never makes it wait.</summary>
public interface IHistoryStore
{
    /// <summary>Reads rows of one moment.</summary>
    T Read<T>(Func<IHistoryRows, T> work);
}
