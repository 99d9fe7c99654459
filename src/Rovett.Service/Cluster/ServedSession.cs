using Rovett.Core.Delivery;
using Rovett.Core.Ledgers;
using Rovett.Core.Links;
using Rovett.Core.Visibility;
using Rovett.Core.Wire;
using Rovett.Service.Credentials;
using Rovett.Service.Live;
using Rovett.Service.Spaces;
using Frames = Rovett.Core.Links.Frames;

namespace Rovett.Service.Cluster;

/// <summary>A session that another node holds, of a space that this process serves.</summary>
/// <param name="space">The space.</param>
/// <param name="attach">What that node said of it.</param>
/// <param name="credential">Its credential.</param>
/// <param name="remote">The session as the ledger has it.</param>
/// <param name="place">Its place among those that are counted.</param>
/// <param name="window">How many may be sent to it before it acknowledges some.</param>
sealed class ServedSession(SpaceRuntime space, Frames.Attach attach, Credential credential, RemoteSession remote, IDisposable place,
    int window) : IOpenSession
{
    volatile Credential credential = credential;
    volatile UserState? user;
    volatile string state = "opening";
    volatile bool isEnded;
    long sent, through;
    int outstanding;
    ChannelList channels = new([], []);

    public RemoteSession Remote => remote;

    public IDisposable Counted => place;

    public string Id => attach.Id;
    public SpaceRuntime Space => space;
    public string User => credential.Identity.User.Value;
    public Credential Credential { get => credential; set => credential = value; }
    public string Device => attach.Device;
    public string? Label => attach.HasLabel ? attach.Label : null;
    public string TransportName => IOpenSession.NameOf((TransportKind)attach.Transport);
    public IReadOnlyList<string> Tried => attach.Tried;
    public StoredTime Since { get; } = new(attach.Since);
    public string StateName => isEnded ? "ending" : state;
    public IEnumerable<string> ChannelNames => (remote.Channels ?? channels).All;
    public int Window => window;
    public int Outstanding => Volatile.Read(ref outstanding);
    public long Sent => Volatile.Read(ref sent);
    public Position? Through => Volatile.Read(ref through) is var at and > 0 ? new Position(at) : null;
    public (UserState User, ISessionPort Session)? Place => user is { } known && !isEnded ? (known, remote) : null;

    /// <summary>Its user, once it is attached.</summary>
    public UserState? Attached => user;

    /// <summary>The ledger attached it.</summary>
    public void Begin(UserState user, ChannelList channels) => (this.channels, this.user) = (channels, user);

    /// <summary>Its connection took something.</summary>
    public void Took(Frames.Written written, RecentEntries recent)
    {
        Volatile.Write(ref sent, written.Sent);
        Volatile.Write(ref outstanding, written.Outstanding);
        state = written.State;
        if (written.Through <= through) return;
        Volatile.Write(ref through, written.Through);
        long before = remote.Written(written.Through);
        foreach (long position in written.Notifications)
        {
            if (position > before) recent.Find(position)?.CountDispatched(Environment.CurrentManagedThreadId);
        }
    }

    public void MoveAway()
    {
        isEnded = true;
        remote.MoveAway(Messages.Ending("moved", 0));
    }

    public void Cut() => End("shutdown", 0);

    public void End(string reason, int? comeBackWithinMs)
    {
        isEnded = true;
        remote.Dismiss(Messages.Ending(reason, comeBackWithinMs));
    }
}
