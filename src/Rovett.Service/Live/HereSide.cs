using Rovett.Core.Delivery;
using Rovett.Core.Ledgers;
using Rovett.Core.Ledgers.Commands.Sessions;
using Rovett.Core.Visibility;
using Rovett.Core.Wire;
using Rovett.Service.Credentials;
using Rovett.Service.Ledgers;
using Rovett.Service.Spaces;

namespace Rovett.Service.Live;

/// <summary>This process serves the session's space.</summary>
sealed class HereSide(LiveServices services) : ISessionSide
{
    LiveSession session = null!; // both set by Attach
    UserState user = null!;
    Session machine = null!;

    string Space => session.Space.Name;

    public bool MayWrite => services.Lease.Holds && !session.Space.IsDeposed;

    public bool IsOver => session.Space.IsDeposed;

    public (UserState User, ISessionPort Session)? Place => user is null ? null : (user, machine);

    public RecentEntries RecentOf(SpaceRuntime space) => services.Recent.Of(space.Name);

    public ValueTask<Credential> Check(string token, SpaceRuntime space, bool whereServed) => services.Tokens.Check(token, space);

    public async Task<Opening> Attach(LiveSession session, DevicePoint at)
    {
        this.session = session;
        machine = session.Machine;
        if (session.Stays) machine.Moves = words => session.MoveAway(this, words);
        var opened = await services.Ledger.Ask(
            new AttachCommand(Space, session.Credential.Identity, session.Device, machine, at));
        user = opened.User;
        if (opened.FollowsInactive) _ = services.Topics.Returned(session.Space, session.User);
        return new Opening(opened.Channels, opened.Totals, opened.LiveFrom, opened.Choices, opened.Plan);
    }

    public async Task Detach()
    {
        try
        {
            await services.Ledger.Ask(new DetachCommand(Space, user, machine));
        }
        catch (Exception error) when (error is ProblemException || LedgerPump.IsStoreFailure(error))
        {
            // It is detached in memory all the same; a ledger that takes no more commands forgets everybody.
        }
    }

    // The acknowledgement buffer itself passes on what it could not store.
    public List<(bool Handled, List<AckedRun> Runs)> Leave() => [];

    public Task<ReadPlan?> Plan() => services.Ledger.Ask(new PlanCommand(Space, session.User, machine));

    public Task GoLive(int planVersion) =>
        services.Ledger.Ask(new GoLiveCommand(Space, session.User, machine, planVersion, machine.Through));

    public Task<(IReadOnlyList<(AgainItem Item, EntryWire Wire)> Found, int PlanVersion, Totals Totals)> Again(
        IReadOnlyList<AgainItem> items) => services.Ledger.Ask(new AgainCommand(Space, user, machine, items));

    public Task Silent(bool isSilent) => services.Ledger.Ask(new SilenceCommand(Space, user, machine, isSilent));

    public Task Identify(Credential renewed) => services.Ledger.Ask(new IdentifyCommand(Space, renewed.Identity));

    public Task<ControlMessage?> Handle(DeviceMessage message) => services.Requests.Handle(session.Space, user, machine,
        session.Credential.Identity, session.Device, message);

    public void Acknowledged(bool handled, List<AckedRun> acked) =>
        services.Acks.Add(Space, session.User, session.Device, handled, acked);

    public Task StoreAcknowledged(bool handled, List<AckedRun> acked) =>
        services.Acks.Store(Space, session.User, session.Device, handled, acked);
}
