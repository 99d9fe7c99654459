namespace Rovett.Storage.Access;

/// <summary>Hears what processes that share a home change of what others keep in memory. It begins with its making: what is read
/// afterwards is at least as new.</summary>
public interface IAccessWatch : IAsyncDisposable
{
    /// <summary>Begins to tell.</summary>
    /// <param name="changed">Is told of changes after their commit, one call at a time. Should it throw, it is told the same again
    /// after a second.</param>
    /// <param name="failed">Hears why nothing can be heard just now, or what <paramref name="changed"/> threw.</param>
    void Follow(Func<IReadOnlyList<AccessChange>, Task> changed, Action<Exception> failed);

    /// <summary>Returns once all that was changed until now was told.</summary>
    /// <exception cref="System.Data.Common.DbException">It can't be asked now.</exception>
    Task CatchUp();
}
