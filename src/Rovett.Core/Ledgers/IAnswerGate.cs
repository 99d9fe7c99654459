namespace Rovett.Core.Ledgers;

/// <summary>Holds the answer to a revocation back until it holds on every node that has sessions.</summary>
public interface IAnswerGate
{
    /// <summary>Gives an answer once every node has applied what it was told of the sessions of some spaces.</summary>
    /// <param name="spaces">The names of the spaces.</param>
    /// <param name="answer">Gives it; it may be called before this returns, or later on another thread.</param>
    void WhenItCounts(IReadOnlyList<string> spaces, Action answer);
}
