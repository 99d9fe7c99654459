namespace Rovett.Storage.Access;

/// <summary>A connection to where credentials are kept, which speaks the SQL that both homes understand. Parameters are named, as members
/// of an object. Safe to call from any thread; calls take turns.</summary>
public interface IAccessSql : IDisposable
{
    /// <summary>Writes.</summary>
    /// <param name="sql">One statement.</param>
    /// <param name="parameters">An object with its parameters, or a list of them: it is carried out for each.</param>
    /// <returns>How many rows it concerned.</returns>
    int Run(string sql, object parameters);

    /// <summary>The first row, or null.</summary>
    T? One<T>(string sql, object parameters) where T : class;

    /// <summary>All rows.</summary>
    List<T> All<T>(string sql, object parameters);

    /// <summary>Carries out several calls in one transaction: all of them become true, or none.</summary>
    void Together(Action work);

    /// <summary>Tells other processes that share the home, if there can be any, that something changed which is not stored in it.</summary>
    /// <param name="space">The space.</param>
    /// <param name="kind">One of <see cref="AccessKinds"/>.</param>
    void Tell(string space, string kind);

    /// <summary>Has what was removed overwritten, where the home keeps it.</summary>
    void ScrubFreed();
}
