namespace Rovett.Core.Ledgers;

/// <summary>Holds answers back that say that something is revoked, until nobody is sent it any more wherever sessions are held.</summary>
public interface IAnswerGate
{
    /// <summary>Gives an answer once all that was sent for sessions of some spaces counts where they are held.</summary>
    /// <param name="spaces">The names of the spaces.</param>
    /// <param name="answer">Gives it; it may be called before this returns, or later on another thread.</param>
    void WhenItCounts(IReadOnlyList<string> spaces, Action answer);
}
