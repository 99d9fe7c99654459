using System.Collections.Concurrent;
using System.Net;
using Grpc.Core;
using Rovett.Core.Delivery;
using Rovett.Core.Ledgers;
using Rovett.Core.Ledgers.Commands.Sessions;
using Rovett.Core.Links;
using Rovett.Core.Policies;
using Rovett.Core.Store;
using Rovett.Core.Wire;
using Rovett.Service.Credentials;
using Rovett.Service.Diagnostics;
using Rovett.Service.Ledgers;
using Rovett.Service.Limits;
using Rovett.Service.Live;
using Rovett.Service.Spaces;
using Rovett.Service.Topics;
using Frames = Rovett.Core.Links.Frames;

namespace Rovett.Service.Cluster;

/// <summary>What links do with the rest of this process.</summary>
sealed record LinkServices(SpaceDirectory Spaces, LedgerPump Ledger, AckBuffer Acks, SessionRegistry Sessions, UsageLimits Limits,
    Tokens Tokens, TopicGate Topics, DeviceRequests Requests, RecentBySpace Recent, SessionLimits Session, Lease Lease, Faults Faults);

/// <summary>The end of a link at the node that serves: another node's sessions, as long as that node is heard.</summary>
sealed class ServedLink(LinkServices services, Nodes nodes)
{
    /// <summary>A node that says nothing for so long is not waited for.</summary>
    static readonly TimeSpan Patience = TimeSpan.FromSeconds(5);

    readonly FrameQueue<Frames.ToHolder> outgoing = new(Weight);
    readonly ConcurrentDictionary<uint, ServedSession> sessions = new();
    readonly ConcurrentDictionary<int, LinkPort> ports = new();
    readonly Lock gate = new();
    readonly CancellationTokenSource closing = new();
    ulong sent, seen;
    TimeSpan grantedUntil;
    bool isOver;

    /// <summary>The number of the newest commit that was sent.</summary>
    public ulong Sent { get { lock (gate) return sent; } }

    /// <summary>Whether all up to a commit counts at the other node, or that node does not act any more on what it was told.</summary>
    public bool Counts(ulong commit) { lock (gate) return (seen >= commit && !isOver) || HasLapsed; }

    /// <summary>The link is over, and the other node does not act any more on what it was told.</summary>
    public bool IsPast { get { lock (gate) return isOver && HasLapsed; } }

    bool HasLapsed => services.Lease.Now > grantedUntil;

    /// <summary>Wants to hear when all up to a commit counts.</summary>
    public void Want(ulong commit) => outgoing.Add(new Frames.ToHolder { SaySeen = commit });

    /// <summary>Ends it.</summary>
    public void Close() => closing.Cancel();

    /// <summary>Called when something more counts.</summary>
    public Action? SeenMore { get; init; }

    static int Weight(Frames.ToHolder frame)
    {
        if (frame.Commit is not { } commit) return 256;
        int weight = 64 * commit.Ops.Count;
        foreach (var entry in commit.Entries) weight += entry.Body.Length;
        foreach (var message in commit.Messages) weight += message.Json.Length;
        foreach (var op in commit.Ops)
        {
            if (op.Offered is { } offered) weight += 8 * offered.Sessions.Count;
        }
        return weight;
    }

    /// <summary>Serves the other node until either ends it.</summary>
    public async Task Run(IAsyncStreamReader<Frames.FromHolder> from, IAsyncStreamWriter<Frames.ToHolder> to, CancellationToken aborted)
    {
        using var stop = CancellationTokenSource.CreateLinkedTokenSource(aborted, closing.Token);
        var writing = Write(to, stop);
        try
        {
            while (await Next(from, stop, Patience)) Take(from.Current);
        }
        catch (Exception error)
        {
            services.Faults.Bug(null, nameof(ServedLink), error);
        }
        finally
        {
            stop.Cancel();
            outgoing.Close();
            await writing;
            await End();
        }
    }

    async Task Write(IAsyncStreamWriter<Frames.ToHolder> to, CancellationTokenSource stop)
    {
        try
        {
            await outgoing.WriteTo(to, stop.Token);
        }
        catch (Exception error) when (IsGone(error))
        {
            // The reader ends, too.
        }
        finally
        {
            stop.Cancel();
        }
    }

    /// <summary>Waits for the next frame.</summary>
    /// <returns>False: the other end is gone, or is not heard any more.</returns>
    internal static async Task<bool> Next<T>(IAsyncStreamReader<T> from, CancellationTokenSource stop, TimeSpan patience)
    {
        try
        {
            stop.CancelAfter(patience);
            return await from.MoveNext(stop.Token);
        }
        catch (Exception error) when (IsGone(error))
        {
            return false;
        }
    }

    internal static bool IsGone(Exception error) =>
        error is RpcException or IOException or OperationCanceledException or InvalidOperationException or ObjectDisposedException;

    async Task End()
    {
        lock (gate) isOver = true;
        foreach (uint number in sessions.Keys) await Detach(number);
    }

    void Send(Frames.Commit commit)
    {
        lock (gate)
        {
            commit.Number = ++sent;
            outgoing.Add(new Frames.ToHolder { Commit = commit });
        }
    }

    void Take(Frames.FromHolder frame)
    {
        switch (frame.WhatCase)
        {
            case Frames.FromHolder.WhatOneofCase.Ask:
                // Many that attach at once share a commit. Carried out here, each would have one to itself, one after the other.
                if (frame.Ask.Attach is not null) _ = Task.Run(() => Answer(frame.Ask));
                else _ = Answer(frame.Ask);
                break;
            case Frames.FromHolder.WhatOneofCase.Reports:
                foreach (var acked in frame.Reports.Acked)
                {
                    services.Acks.Add(acked.Space, acked.User, acked.Device, acked.Handled, LinkCodec.Read(acked));
                }
                if (frame.Reports.Number > 0) _ = SayWritten(frame.Reports.Number);
                foreach (var written in frame.Reports.Written)
                {
                    if (sessions.TryGetValue(written.Session, out var taking))
                        taking.Took(written, services.Recent.Of(taking.Space.Name));
                }
                break;
            case Frames.FromHolder.WhatOneofCase.LeftOut:
                if (sessions.TryGetValue(frame.LeftOut.Session, out var session)) session.Remote.LeftOut(frame.LeftOut.Address);
                break;
            case Frames.FromHolder.WhatOneofCase.Seen:
                lock (gate) seen = Math.Max(seen, frame.Seen);
                SeenMore?.Invoke();
                break;
            case Frames.FromHolder.WhatOneofCase.Ping:
                Pong(frame.Ping);
                break;
            default:
                break; // a later version says more than this one knows
        }
    }

    /// <summary>What was said until now holds as long as this process may act for its spaces.</summary>
    void Pong(long ping)
    {
        lock (gate)
        {
            var left = services.Lease.Left;
            grantedUntil = services.Lease.Now + left;
            outgoing.Add(new Frames.ToHolder { Pong = new Frames.Pong { Ping = ping, Holds = left.Ticks } });
        }
    }

    /// <summary>Confirms a report's acknowledgements once they are stored.</summary>
    async Task SayWritten(ulong number)
    {
        await services.Acks.Written();
        outgoing.Add(new Frames.ToHolder { Written = number });
    }

    async Task Answer(Frames.Ask ask)
    {
        var answer = new Frames.Answer();
        try
        {
            answer = await Carry(ask);
        }
        catch (ProblemException refused)
        {
            answer.Problem = LinkCodec.Of(refused.Problem);
        }
        catch (Exception error) when (LedgerPump.IsStoreFailure(error))
        {
            answer.StoreFailed = error is InDoubtException;
        }
        catch (Exception error)
        {
            services.Faults.Thrown(null, $"link {ask.WhatCase}", error);
            answer.Bug = new Frames.Nothing();
        }
        answer.Id = ask.Id;
        outgoing.Add(new Frames.ToHolder { Answer = answer });
    }

    static Problem Over() => new(404, "unknown-session", "No such session", "The session has ended.",
        "Open a new session with the newest cursor.");

    ServedSession Known(uint number) => sessions.TryGetValue(number, out var session) && session.Attached is not null ? session
        : throw Over().ToException();

    async Task<Frames.Answer> Carry(Frames.Ask ask)
    {
        var answer = new Frames.Answer { Done = new Frames.Nothing() };
        switch (ask.WhatCase)
        {
            case Frames.Ask.WhatOneofCase.Attach:
                return new Frames.Answer { Opened = await Attach(ask.Session, ask.Attach) };
            case Frames.Ask.WhatOneofCase.Detach:
                await Detach(ask.Session);
                return answer;
            case Frames.Ask.WhatOneofCase.Check:
                var checkedOne = await services.Tokens.Check(ask.Check.Token_, await SpaceOf(ask.Check.Space));
                return new Frames.Answer { Credential = Of(checkedOne) };
            default:
                return await Carry(ask, Known(ask.Session), answer);
        }
    }

    async Task<Frames.Answer> Carry(Frames.Ask ask, ServedSession session, Frames.Answer answer)
    {
        var (space, user) = (session.Space.Name, session.Attached!);
        switch (ask.WhatCase)
        {
            case Frames.Ask.WhatOneofCase.Plan:
                if (await services.Ledger.Ask(new PlanCommand(space, session.User, session.Remote)) is { } plan)
                    answer.Plan = LinkCodec.Of(plan);
                break;
            case Frames.Ask.WhatOneofCase.GoLive:
                await services.Ledger.Ask(new GoLiveCommand(space, session.User, session.Remote, ask.GoLive.Version, ask.GoLive.Through));
                break;
            case Frames.Ask.WhatOneofCase.Again:
                var items = ask.Again.Items.Select(i => new AgainItem(i.Position, i.Log, i.Ordinal, i.Attempt)).ToList();
                answer.Repeats = Of(await services.Ledger.Ask(new AgainCommand(space, user, session.Remote, items)));
                break;
            case Frames.Ask.WhatOneofCase.Silent:
                await services.Ledger.Ask(new SilenceCommand(space, user, session.Remote, ask.Silent));
                break;
            case Frames.Ask.WhatOneofCase.Device:
                var message = DeviceMessage.Parse(ask.Device.Memory, session.Space.Cursors);
                var said = await services.Requests.Handle(session.Space, user, session.Remote, session.Credential.Identity,
                    session.Device, message);
                if (said is not null) answer.Message = LinkCodec.Of(said);
                break;
            case Frames.Ask.WhatOneofCase.Identify:
                RequireReadForPolicies(session.Space, ask.Identify);
                var identity = LinkCodec.Read(ask.Identify);
                await services.Ledger.Ask(new IdentifyCommand(space, identity));
                session.Credential = session.Credential with { Identity = identity };
                break;
            case Frames.Ask.WhatOneofCase.Store:
                await services.Acks.Store(space, ask.Store.User, ask.Store.Device, ask.Store.Handled, LinkCodec.Read(ask.Store));
                break;
            default:
                throw new Problem(501, "unknown-request", "Unknown request", "This node runs an earlier version.", "Upgrade all nodes.")
                    .ToException();
        }
        return answer;
    }

    async Task<SpaceRuntime> SpaceOf(string name) => services.Spaces.Find(name) is { } space && await nodes.Serves(space) ? space
        : throw Ledger.Moved(name).ToException();

    async Task<Frames.Opened> Attach(uint number, Frames.Attach attach)
    {
        var space = await SpaceOf(attach.Space);
        using var use = space.Use();
        // Positions of an earlier life of the store mean nothing here; the node that sent them is about to restart.
        if (attach.Life != 0 && attach.Life != space.Cursors.Life) throw Ledger.Moved(attach.Space).ToException();
        RequireReadForPolicies(space, attach.Credential.Identity);
        var credential = Read(attach.Credential);
        var place = services.Limits.EnterSession(space, credential.Identity.User.Value,
            IPAddress.TryParse(attach.Address, out var address) ? address : null);
        var port = ports.GetOrAdd(space.Id, id => new LinkPort(id, Send));
        var session = new ServedSession(space, attach, credential, new RemoteSession(port, number, attach.Room), place,
            services.Session.Window);
        try
        {
            var opened = await services.Ledger.Ask(new AttachCommand(space.Name, credential.Identity, attach.Device, session.Remote,
                new DevicePoint(attach.HasAfter ? attach.After : null, attach.Foreign)));
            session.Begin(opened.User, opened.Channels);
            bool isLate;
            lock (gate)
            {
                sessions[number] = session;
                isLate = isOver;
            }
            services.Sessions.Add(session);
            if (isLate)
            {
                await Detach(number);
                throw Over().ToException();
            }
            if (!services.Tokens.StillHolds(space, credential)) session.End("signing-key-removed", null);
            if (opened.FollowsInactive) _ = services.Topics.Returned(space, session.User);
            var answer = new Frames.Opened
            {
                Channels = LinkCodec.Of(opened.Channels),
                Totals = LinkCodec.Of(opened.Totals),
                Head = opened.Head.Value,
                Choices = LinkCodec.Of(opened.Choices),
                Plan = LinkCodec.Of(opened.Plan),
            };
            if (opened.LiveFrom is { } from) answer.LiveFrom = from.Value;
            return answer;
        }
        catch
        {
            if (!sessions.ContainsKey(number)) place.Dispose();
            throw;
        }
    }

    /// <summary>Refuses a token that a node read before it heard of the newest policies. That node then has it checked here.</summary>
    static void RequireReadForPolicies(SpaceRuntime space, Frames.Identity identity)
    {
        if (!identity.FromToken || ClaimSet.IsReadFor(identity.Claims, space.ClaimPaths)) return;
        throw new Problem(503, "token-outdated", "Token read for earlier policies",
            "New policies look at claims that the token was not read for.", "Try again.")
        { RetryAfterSeconds = 1 }.ToException();
    }

    async Task Detach(uint number)
    {
        if (!sessions.TryRemove(number, out var session)) return;
        services.Sessions.Remove(session);
        session.Counted.Dispose();
        try
        {
            await services.Ledger.Ask(new DetachCommand(session.Space.Name, session.Attached!, session.Remote));
        }
        catch (Exception error) when (error is ProblemException || LedgerPump.IsStoreFailure(error))
        {
            // It is detached in memory all the same; a ledger that takes no more commands forgets everybody.
        }
    }

    static Frames.Repeats Of((IReadOnlyList<(AgainItem Item, EntryWire Wire)> Found, int PlanVersion, Core.Visibility.Totals Totals) again)
    {
        var wire = new Frames.Repeats { Version = again.PlanVersion, Totals = LinkCodec.Of(again.Totals) };
        foreach (var (item, entry) in again.Found)
        {
            wire.Items.Add(new Frames.Item
            {
                Wire = new Frames.Wire
                { Entry = (uint)wire.Entries.Count, Address = entry.Address, Attempt = entry.Attempt, Counted = entry.IsCounted },
                Log = item.Log,
                Ordinal = item.Ordinal,
                Position = item.Position,
            });
            wire.Entries.Add(LinkCodec.Of(entry.Entry));
        }
        return wire;
    }

    /// <summary>A credential, to be told to another node.</summary>
    internal static Frames.Credential Of(Credential credential)
    {
        var frame = new Frames.Credential
        {
            Identity = LinkCodec.Of(credential.Identity),
            Expires = StoredTime.From(credential.Expires).Micros,
            SigningKey = credential.SigningKey,
            KeyId = credential.KeyId,
        };
        frame.Identity.FromToken = credential.TokenHash is not null && !StandIns.Is(credential);
        return frame;
    }

    /// <summary>A credential that another node told.</summary>
    internal static Credential Read(Frames.Credential credential) => new(LinkCodec.Read(credential.Identity),
        DateTimeOffset.UnixEpoch.AddMicroseconds(credential.Expires), credential.SigningKey, credential.KeyId);
}
