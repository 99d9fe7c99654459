using Rovett.Core.Delivery;
using Rovett.Core.Wire;
using Rovett.Service.Ledgers;
using Rovett.Service.Limits;

namespace Rovett.Service.Live;

/// <summary>What its device says.</summary>
public sealed partial class LiveSession
{
    /// <summary>Counts a message of the device.</summary>
    /// <returns>How long to wait before it is taken.</returns>
    internal TimeSpan TakeMessage() => Allowance()?.Take(out _) ?? TimeSpan.Zero;

    /// <summary>Counts the messages of one request, each of them; none to ask whether one would be taken now.</summary>
    /// <returns>How long to wait before they are taken; zero: they are.</returns>
    internal TimeSpan TakeMessages(int count) => Allowance()?.TakeAll(count) ?? TimeSpan.Zero;

    Bucket? Allowance()
    {
        if (messages is not null || services.Options.MessagesPerSecond == 0) return messages;
        var made = new Bucket(services.Options.MessagesPerSecond, services.Clock);
        return Interlocked.CompareExchange(ref messages, made, null) ?? made; // several requests may come at once
    }

    /// <summary>Carries out a message about a topic after those that came before it, and says the answer: a backend may be asked,
    /// which nothing else of this session waits for.</summary>
    internal async ValueTask HandleTopic(DeviceMessage message)
    {
        Task before;
        lock (gate)
        {
            before = topicWork;
            topicWork = After(before, message);
        }
        if (Interlocked.Increment(ref topicsWaiting) > MostTopicsWaiting) await before; // read slower
    }

    async Task After(Task before, DeviceMessage message)
    {
        await before;
        try
        {
            if (await Handle(message) is { } answer && !Machine.Answer(answer)) Closed();
        }
        catch (Exception error)
        {
            services.Faults.Thrown(Space.Name, "message " + message.Kind, error);
            Closed(); // as an error in any other message ends its connection
        }
        finally
        {
            Interlocked.Decrement(ref topicsWaiting);
        }
    }

    /// <summary>Carries out a message of the device.</summary>
    /// <returns>The answer, or null when none is wanted.</returns>
    public async Task<ControlMessage?> Handle(DeviceMessage message)
    {
        HeardNow();
        Machine.HeardAnything(Now);
        if (Machine.IsEnded) return null; // what it says came too late, though its connection is not closed yet
        if (Space.IsRemoved)
        {
            End("space-removed", null);
            return null;
        }
        if (message.Problem is { } problem) return Messages.Refused(message.RequestId, problem);
        try
        {
            return message.Kind switch
            {
                DeviceMessageKind.Ack => await Acknowledge(message),
                DeviceMessageKind.Renew => await Renew(message),
                _ => await Ask(s => s.Handle(message), mayRepeat: message.Kind != DeviceMessageKind.Say),
            };
        }
        catch (ProblemException refused)
        {
            return Messages.Refused(message.RequestId, refused.Problem);
        }
        catch (Exception error) when (LedgerPump.IsStoreFailure(error))
        {
            return Messages.Refused(message.RequestId, LedgerPump.StoreFailed(error));
        }
    }

    /// <summary>A newer token of the same user takes the place of the session's own; its roles count from now on.</summary>
    async ValueTask<ControlMessage?> Renew(DeviceMessage message)
    {
        try
        {
            return await Renew(message, whereServed: false);
        }
        catch (ProblemException earlier) when (earlier.Problem.Slug == ISessionSide.ReadForEarlierPolicies)
        {
            return await Renew(message, whereServed: true);
        }
    }

    async ValueTask<ControlMessage?> Renew(DeviceMessage message, bool whereServed)
    {
        var renewed = await Ask(s => s.Check(message.Token!, Space, whereServed).AsTask());
        if (renewed.Identity.User != credential.Identity.User)
            return Messages.Refused(message.RequestId,
                new Problem(403, "token-of-another-user", "Token of another user", "A session belongs to one user.",
                "Open another session for that user."));
        if (renewed.Identity.IssuedAtMicros < credential.Identity.IssuedAtMicros)
            return Messages.Refused(message.RequestId,
                new Problem(422, "token-older", "Token older than the current one",
                "It was issued before the token the session uses.", "Get a new token from your backend."));
        await Ask(s => Stored(s.Identify(renewed)));
        credential = renewed;
        WarnInTime();
        if (ticket is not null) services.Tickets.Renew(ticket, renewed);
        if (!services.Tokens.StillHolds(Space, renewed)) End("signing-key-removed", null); // while it was looked at
        return message.RequestId is null ? null : Messages.Done(message.RequestId, null);
    }

    static async Task<bool> Stored(Task what)
    {
        await what;
        return true;
    }

    async ValueTask<ControlMessage?> Acknowledge(DeviceMessage message)
    {
        bool known;
        if (message.Again)
        {
            known = Machine.WantAgain([.. message.Marks!.Ids!], Now, out bool tooOften);
            if (tooOften)
            {
                return Messages.Refused(message.RequestId,
                    new Problem(409, "again-too-often", "Too many attempts",
                    $"A notification is sent at most {services.Session.MaxAttempts} times to one session.",
                    "Acknowledge it and fix the handler that fails. The notification stays in the inbox."));
            }
        }
        else
        {
            var runs = new List<AckedRun>();
            known = Machine.Acknowledge(message.Marks!.UpTo?.Position, message.Marks.Ids is { } ids ? [.. ids] : null, Now, runs);
            long count = runs.Sum(r => r.Run.To - r.Run.From + 1);
            Interlocked.Add(ref acked, count); // several requests may come at once
            traces?.Acknowledged(runs);
            // One for many is what devices are asked for, and there are no more of them than the service gives cause for.
            if (count >= FreeAck) messages?.GiveBack();
            if (message.RequestId is null || runs.Count == 0) side.Acknowledged(message.Handled, runs);
            else await Ask(s => Stored(s.StoreAcknowledged(message.Handled, runs))); // what is answered is on disk
        }
        if (!known)
        {
            return Messages.Refused(message.RequestId,
                new Problem(422, "not-outstanding", "Not outstanding",
                "One of these notifications was not sent to this session, or was acknowledged before.",
                "Acknowledge each notification of this session once."));
        }
        return message.RequestId is null ? null : Messages.Done(message.RequestId, null);
    }
}
