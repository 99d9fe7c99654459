using System.Net;
using Rovett.Service.Live;
using Rovett.Service.Spaces;

namespace Rovett.Service.Cluster;

/// <summary>Finds the node that serves a space, for sessions of this node that go on there.</summary>
sealed class SessionSides(LiveServices services, Nodes nodes, LinkPool links) : ISessionSides
{
    public async Task<ISessionSide?> Next(SpaceRuntime space, IPAddress? address)
    {
        long began = Environment.TickCount64;
        while (!nodes.Stops)
        {
            var changed = nodes.Changed;
            if (nodes.IsHere(space)) return new HereSide(services);
            var place = nodes.PlaceOf(space.Name);
            if (place is null) return null; // it is being removed
            if (place.Url is { } url && url != nodes.Name)
            {
                if (await links.To(place) is { } link) return new LinkedSide(services, link, address);
                if (!LinkPool.MayLink(place)) return null; // its connection is passed on, once it comes back
                nodes.Suspect();
            }
            else nodes.Need(space.Name);
            var left = Relay.Patience - TimeSpan.FromMilliseconds(Environment.TickCount64 - began);
            if (left <= TimeSpan.Zero) return null;
            await Relay.Wait(changed, left < Relay.LookAgain ? left : Relay.LookAgain, CancellationToken.None);
        }
        return null;
    }
}
