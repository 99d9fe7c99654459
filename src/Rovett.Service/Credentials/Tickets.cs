using System.Text.Json;
using Rovett.Core.Addresses;
using Rovett.Core.Ledgers;
using Rovett.Service.Diagnostics;
using Rovett.Service.Limits;
using Rovett.Storage.Access;

namespace Rovett.Service.Credentials;

/// <summary>Connect tickets: short-lived stand-ins for tokens, safe in a URL. One opens once within 60 seconds; over
/// server-sent events it then lets the same device come back from the same origin until its token ends.</summary>
public sealed class Tickets : IDisposable
{
    /// <summary>How long a fresh ticket can be opened.</summary>
    public static readonly TimeSpan OpensWithin = TimeSpan.FromSeconds(60);

    /// <summary>Tickets that one user may be given a second; as many may be given at once.</summary>
    public const int PerUserAndSecond = 20;

    const int MostRemembered = 100_000;
    static readonly TimeSpan SweepEvery = TimeSpan.FromSeconds(30), SweptAfter = TimeSpan.FromMinutes(2);

    readonly TicketStore store;
    readonly SigningKeys keys;
    readonly TimeProvider clock;
    readonly Buckets<(string Space, string User)> given;
    readonly Repeating sweeps;

    /// <summary>Starts removing what can no longer be used.</summary>
    public Tickets(TicketStore store, SigningKeys keys, TimeProvider clock, Faults faults)
    {
        (this.store, this.keys, this.clock) = (store, keys, clock);
        given = new Buckets<(string, string)>(PerUserAndSecond, MostRemembered, clock);
        sweeps = new Repeating("ticket sweep", SweepEvery, clock, faults, () =>
        {
            store.Sweep(Now, (long)SweptAfter.TotalMicroseconds);
            return Task.CompletedTask;
        });
    }

    /// <summary>Makes a ticket for a user who showed a token.</summary>
    /// <exception cref="ProblemException">429: the user was given too many.</exception>
    public string Make(string space, Credential credential)
    {
        var user = credential.Identity.User.Value;
        if (!given.Take((space, user)))
            throw new Problem(429, "too-many-tickets", "Too many tickets", $"The limit is {PerUserAndSecond} a second for one user.",
                "Request one ticket per connection, right before connecting.")
            { RetryAfterSeconds = 1 }.ToException();
        var ticket = Secrets.New(Secrets.TicketPrefix);
        store.Add(Secrets.Hash(ticket),
            new StoredTicket(space, user, JsonSerializer.Serialize(credential.Identity.Roles), credential.Identity.IssuedAtMicros,
            StoredTime.From(credential.Expires).Micros,
            Now + (long)OpensWithin.TotalMicroseconds, null, null, null, credential.SigningKey, credential.KeyId,
            credential.Identity.Claims, 0));
        return ticket;
    }

    /// <summary>Opens a ticket, or lets its device come back.</summary>
    /// <param name="ticket">As it stood in the URL.</param>
    /// <param name="space">The space of the path.</param>
    /// <param name="device">The device named in the request, or null.</param>
    /// <param name="origin">The request's origin, or null.</param>
    /// <param name="comesBack">True for transports that reconnect by themselves.</param>
    /// <returns>The user, and the device the ticket is bound to.</returns>
    /// <exception cref="ProblemException">401 or 403; <c>ticket-ended</c> when its token has ended.</exception>
    public async ValueTask<(Credential Credential, string Device)> Open(string ticket, string space, string? device, string? origin,
        bool comesBack)
    {
        var hash = Secrets.Hash(ticket);
        var found = store.Find(hash)
            ?? throw Refused("ticket-unknown", "Unknown ticket", "No such ticket was made here, or its token ended long ago.",
            "Ask for a new one: POST /v1/tickets with the user's token.");
        if (found.Space != space)
        {
            throw new Problem(403, "ticket-of-another-space", "Ticket of another space", $"It was not created for the space '{space}'.",
                "Use the path of the space it was created for.").ToException();
        }
        if (!await keys.Holds(space, found.SigningKey, found.KeyId))
        {
            throw Refused("ticket-key-removed", "Ticket's signing key removed", "The key that signed the ticket's token was removed.",
                "Get a new token, and a ticket for it.");
        }
        if (found.Expires <= Now)
        {
            throw Refused("ticket-ended", "Ticket's token expired", "The token it stands for has expired.",
                "Get a new token, and a ticket for it.");
        }
        if (found.Opened is null)
        {
            // One that seems to open for longer than any does was made before the clock went back.
            if (found.OpensUntil < Now || found.OpensUntil > Now + (long)OpensWithin.TotalMicroseconds)
            {
                throw Refused("ticket-stale", "Ticket opened too late",
                    $"A ticket can be opened within {OpensWithin.TotalSeconds:0} seconds.", "Ask for a ticket right before connecting.");
            }
            device ??= "ticket-" + Secrets.NewId();
            if (store.Open(hash, device, origin, comesBack, Now)) return (CredentialOf(found), device);
            // Another connection was first.
            found = store.Find(hash)
                ?? throw Refused("ticket-unknown", "Unknown ticket", "It was removed just now.",
                "Ask for a new one: POST /v1/tickets with the user's token.");
        }
        if (!comesBack || found.ComesBack == 0)
        {
            throw Refused("ticket-used", "Ticket used already", "A ticket opens one WebSocket.",
                "Ask for a new ticket for each connection.");
        }
        if (found.Origin != origin || (device is not null && device != found.Device))
        {
            throw Refused("ticket-of-another-device", "Ticket of another device",
                "It was opened by another device or from another origin.", "Ask for a ticket of this device's own.");
        }
        return (CredentialOf(found), found.Device!);
    }

    /// <summary>Who a ticket that is open already stands for; used for what a device posts beside its stream.</summary>
    public async ValueTask<Credential> Opened(string ticket, string space, string? origin)
    {
        var found = store.Find(Secrets.Hash(ticket));
        if (found is null || found.Opened is null || found.Space != space || found.Expires <= Now || found.Origin != origin
            || !await keys.Holds(space, found.SigningKey, found.KeyId))
            throw Refused("ticket-unknown", "Ticket not open", "Only the ticket of an open stream can be used to post.",
                "Open the stream first, from the same origin.");
        return CredentialOf(found);
    }

    /// <summary>A device showed a newer token: its ticket stands for that from now on.</summary>
    public void Renew(string ticket, Credential credential) =>
        store.Renew(Secrets.Hash(ticket), JsonSerializer.Serialize(credential.Identity.Roles),
        credential.Identity.IssuedAtMicros, StoredTime.From(credential.Expires).Micros, credential.SigningKey, credential.KeyId,
        credential.Identity.Claims);

    /// <summary>Ends all tickets of a user.</summary>
    public void End(string space, string user) => store.RemoveOf(space, user);

    static Credential CredentialOf(StoredTicket ticket) => new(
        new Identity(new UserId(ticket.User), JsonSerializer.Deserialize<List<string>?>(ticket.Roles), ticket.IssuedAt, ticket.Claims),
        DateTimeOffset.UnixEpoch.AddTicks(ticket.Expires * 10), ticket.SigningKey, ticket.KeyId);

    static ProblemException Refused(string slug, string title, string detail, string fix) =>
        new Problem(401, slug, title, detail, fix).ToException();

    long Now => StoredTime.From(clock.GetUtcNow()).Micros;

    /// <inheritdoc/>
    public void Dispose() => sweeps.Dispose();
}
