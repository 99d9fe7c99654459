using System.Net;
using Rovett.Service.Live;
using Rovett.Service.Spaces;

namespace Rovett.Service.Cluster;

/// <summary>Finds the node that serves a space, for sessions of this node that stay through a take-over.</summary>
sealed class SessionSides(LiveServices services, Nodes nodes, LinkPool links) : ISessionSides
{
    readonly Lock gate = new();
    readonly Dictionary<string, Task<bool>> waits = [];

    public Task<bool> IsServed(SpaceRuntime space)
    {
        lock (gate)
        {
            if (waits.TryGetValue(space.Name, out var under) && !under.IsCompleted) return under;
            return waits[space.Name] = Wait(space);
        }
    }

    async Task<bool> Wait(SpaceRuntime space)
    {
        long began = Environment.TickCount64;
        while (!nodes.Stops)
        {
            var changed = nodes.Changed;
            if (await Of(space, null) is not null) return true;
            // The space is being removed; or there are no links, and connections are passed on after they come back.
            if (nodes.PlaceOf(space.Name) is not { } place || (place.Url is { } url && url != nodes.Name && !LinkPool.MayLink(place)))
                return false;
            if (nodes.IsLost(place)) return false; // it reconnects through a node that reaches that one
            if (place.Url is null) nodes.Need(space.Name);
            else nodes.Suspect();
            var left = Relay.Patience - TimeSpan.FromMilliseconds(Environment.TickCount64 - began);
            if (left <= TimeSpan.Zero) return false;
            await Relay.Wait(changed, left < Relay.LookAgain ? left : Relay.LookAgain, CancellationToken.None);
        }
        return false;
    }

    public async ValueTask<ISessionSide?> Of(SpaceRuntime space, IPAddress? address)
    {
        if (nodes.IsHere(space)) return new HereSide(services);
        return nodes.PlaceOf(space.Name) is { Url: { } url } place && url != nodes.Name && await links.To(place) is { } link
            ? new LinkedSide(services, link, address) : null;
    }
}
