using Rovett.Core.Delivery;
using Rovett.Core.Ledgers;
using Rovett.Core.Visibility;
using Rovett.Core.Wire;
using Rovett.Service.Credentials;
using Rovett.Service.Spaces;

namespace Rovett.Service.Live;

/// <summary>Stands in between two nodes that serve the space: requests wait until the session is attached again.</summary>
sealed class NextSide : ISessionSide
{
    readonly TaskCompletionSource<ISessionSide> next = new(TaskCreationOptions.RunContinuationsAsynchronously);
    readonly List<(bool Handled, List<AckedRun> Runs)> acknowledged = [];
    readonly Lock gate = new();
    ISessionSide? begun;

    public bool MayWrite => false;

    public bool IsOver => false;

    public (UserState User, ISessionPort Session)? Place => null;

    /// <summary>The session is attached again: passes everything that waited to its new side.</summary>
    public void Begins(ISessionSide side)
    {
        lock (gate)
        {
            begun = side;
            foreach (var (handled, runs) in acknowledged) side.Acknowledged(handled, runs);
            acknowledged.Clear();
        }
        next.TrySetResult(side);
    }

    /// <summary>Takes over the waiting requests and acknowledgements of another stand-in, whose node moved on before the session was
    /// attached.</summary>
    public void Takes(NextSide other)
    {
        foreach (var (handled, runs) in other.Leave()) Acknowledged(handled, runs);
        next.Task.ContinueWith(t =>
        {
            if (t.IsCompletedSuccessfully) other.Begins(t.Result);
            else other.Ends(Ledger.Moved(""));
        }, TaskScheduler.Default);
    }

    /// <summary>The session ends instead: fails everything that waits.</summary>
    public void Ends(Problem why)
    {
        if (next.TrySetException(why.ToException())) _ = next.Task.Exception;
    }

    public RecentEntries RecentOf(SpaceRuntime space) =>
        throw new InvalidOperationException("Nothing is read before the session is attached.");

    public Task<Opening> Attach(LiveSession session, DevicePoint at) => throw new InvalidOperationException("A stand-in attaches nothing.");

    public async ValueTask<Credential> Check(string token, SpaceRuntime space, bool whereServed) =>
        await (await next.Task).Check(token, space, whereServed);

    public Task Detach()
    {
        Ends(Ledger.Moved(""));
        return Task.CompletedTask;
    }

    public List<(bool Handled, List<AckedRun> Runs)> Leave()
    {
        lock (gate)
        {
            var left = acknowledged.ToList();
            acknowledged.Clear();
            return left;
        }
    }

    public async Task<ReadPlan?> Plan() => await (await next.Task).Plan();

    public async Task GoLive(int planVersion) => await (await next.Task).GoLive(planVersion);

    public async Task<(IReadOnlyList<(AgainItem Item, EntryWire Wire)> Found, int PlanVersion, Totals Totals)> Again(
        IReadOnlyList<AgainItem> items) => await (await next.Task).Again(items);

    public async Task Silent(bool isSilent) => await (await next.Task).Silent(isSilent);

    public async Task Identify(Credential renewed) => await (await next.Task).Identify(renewed);

    public async Task<ControlMessage?> Handle(DeviceMessage message) => await (await next.Task).Handle(message);

    public void Acknowledged(bool handled, List<AckedRun> acked)
    {
        lock (gate)
        {
            if (begun is null) acknowledged.Add((handled, acked));
            else begun.Acknowledged(handled, acked);
        }
    }

    public async Task StoreAcknowledged(bool handled, List<AckedRun> acked) => await (await next.Task).StoreAcknowledged(handled, acked);
}
