using System.Text.Json;
using Rovett.Core;
using Rovett.Core.Addresses;
using Rovett.Core.AddressLogs;
using Rovett.Core.Ledger;
using Rovett.Storage.Sqlite;

namespace Rovett.Service.Access;

/// <summary>Connect tickets: short-lived stand-ins for tokens, safe in a URL. One opens once within 60 seconds; over
/// server-sent events it then lets the same device come back from the same origin until its token ends.</summary>
public sealed class Tickets(AccessStore store, SigningKeys keys, TimeProvider clock)
{
    /// <summary>How long a fresh ticket can be opened.</summary>
    public static readonly TimeSpan OpensWithin = TimeSpan.FromSeconds(60);

    /// <summary>Makes a ticket for whoever showed a token.</summary>
    public string Make(string space, Credential credential)
    {
        var ticket = Secrets.New(Secrets.TicketPrefix);
        store.AddTicket(Secrets.Hash(ticket), new StoredTicket(space, credential.Identity.User.Value, JsonSerializer.Serialize(credential.Identity.Roles),
            credential.Identity.IssuedAtMicros, StoredTime.From(credential.Expires).Micros, Now + (long)OpensWithin.TotalMicroseconds, null, null, null, credential.SigningKey, credential.Identity.Claims, 0), Now);
        return ticket;
    }

    /// <summary>Opens a ticket, or lets its device come back.</summary>
    /// <param name="ticket">As it stood in the URL.</param>
    /// <param name="space">The space of the path.</param>
    /// <param name="device">The device named in the request, or null.</param>
    /// <param name="origin">The request's origin, or null.</param>
    /// <param name="comesBack">True for transports that reconnect by themselves.</param>
    /// <returns>Who it is, and the device it is bound to.</returns>
    /// <exception cref="ProblemException">401 or 403; <c>ticket-ended</c> when its token has ended.</exception>
    public (Credential Credential, string Device) Open(string ticket, string space, string? device, string? origin, bool comesBack)
    {
        var hash = Secrets.Hash(ticket);
        var found = store.FindTicket(hash) ?? throw Refused("ticket-unknown", "The ticket is not known", "No such ticket was made here, or its token ended long ago.", "Ask for a new one: POST /v1/tickets with the user's token.");
        if (found.Space != space) throw new Problem(403, "ticket-of-another-space", "The ticket is of another space", $"It was not made for the space '{space}'.", "Use the path of the space it was made for.").Throw();
        if (!keys.Has(space, found.SigningKey)) throw Refused("ticket-key-removed", "The ticket's token does not hold any more", "The key that it was signed with was removed.", "Get a new token, and a ticket for it.");
        if (found.Expires <= Now) throw Refused("ticket-ended", "The ticket's token has ended", "The token it stands for has expired.", "Get a new token, and a ticket for it.");
        if (found.Opened is null)
        {
            if (found.OpensUntil < Now) throw Refused("ticket-stale", "The ticket was not opened in time", $"A ticket can be opened within {OpensWithin.TotalSeconds:0} seconds.", "Ask for a ticket right before connecting.");
            device ??= "ticket-" + Secrets.NewId();
            if (store.OpenTicket(hash, device, origin, comesBack, Now)) return (CredentialOf(found), device);
            found = store.FindTicket(hash)!; // another connection was first
        }
        if (!comesBack || found.ComesBack == 0) throw Refused("ticket-used", "The ticket was used already", "A ticket opens one WebSocket.", "Ask for a new ticket for each connection.");
        if (found.Origin != origin || (device is not null && device != found.Device)) throw Refused("ticket-of-another-device", "The ticket belongs to another device", "It was opened by another device or from another origin.", "Ask for a ticket of this device's own.");
        return (CredentialOf(found), found.Device!);
    }

    /// <summary>Who a ticket that is open already stands for; used for what a device posts beside its stream.</summary>
    public Credential Opened(string ticket, string space, string? origin)
    {
        var found = store.FindTicket(Secrets.Hash(ticket));
        if (found is null || found.Opened is null || found.Space != space || found.Expires <= Now || found.Origin != origin || !keys.Has(space, found.SigningKey))
            throw Refused("ticket-unknown", "The ticket is not open here", "Only a ticket that holds a stream open can be used to post.", "Open the stream first, from the same origin.");
        return CredentialOf(found);
    }

    /// <summary>A device showed a newer token: its ticket stands for that from now on.</summary>
    public void Renew(string ticket, Credential credential) => store.RenewTicket(Secrets.Hash(ticket), JsonSerializer.Serialize(credential.Identity.Roles),
        credential.Identity.IssuedAtMicros, StoredTime.From(credential.Expires).Micros, credential.SigningKey, credential.Identity.Claims);

    static Credential CredentialOf(StoredTicket ticket) => new(
        new Identity(new UserId(ticket.User), JsonSerializer.Deserialize<List<string>?>(ticket.Roles), ticket.IssuedAt, ticket.Claims),
        DateTimeOffset.UnixEpoch.AddTicks(ticket.Expires * 10), ticket.SigningKey);

    static ProblemException Refused(string slug, string title, string detail, string mend) => new Problem(401, slug, title, detail, mend).Throw();

    long Now => StoredTime.From(clock.GetUtcNow()).Micros;
}
