using Rovett.Core.Delivery;
using Rovett.Core.Ledgers;
using Rovett.Core.Ledgers.Commands.Marking;
using Rovett.Core.Marks;
using Rovett.Core.Visibility;

namespace Rovett.Service.Ledgers;

/// <summary>Marks however many notifications in steps of a few milliseconds, so that sends and everything else come between.</summary>
public sealed class MarkSteps(LedgerPump ledger) : IDisposable
{
    /// <summary>The most runs that are marked before others have their turn: a first few at once, more when one waits
    /// for its turn.</summary>
    const int First = 64, Later = 128;

    readonly SemaphoreSlim turns = new(1);

    /// <summary>Marks notifications; the answer comes when all of it is on disk.</summary>
    /// <param name="space">The space's name.</param>
    /// <param name="by">The user, by the credential that asks. Should it end, what is not marked yet is left.</param>
    /// <param name="verb">What.</param>
    /// <param name="selector">Which.</param>
    /// <param name="device">On which device.</param>
    /// <param name="origin">The session that asked.</param>
    /// <exception cref="ProblemException">404: an id is not this user's; 401 or 403: the credential does not hold.</exception>
    public async Task<TotalsBy> Mark(string space, Identity by, MarkVerb verb, MarkSelector selector, string device, ISessionPort? origin)
    {
        var step = new MarkCommand(space, by.User.Value, verb, selector, device, origin, by, First);
        var answer = await ledger.Ask(step);
        while (step.Rest is { } rest)
        {
            await turns.WaitAsync();
            try
            {
                step = new MarkCommand(space, by.User.Value, verb, selector, device, origin, by, Later, rest);
                answer = await ledger.Ask(step);
            }
            finally
            {
                turns.Release();
            }
        }
        return answer;
    }

    /// <inheritdoc/>
    public void Dispose() => turns.Dispose();
}
