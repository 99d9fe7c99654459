using Rovett.Core.Ledgers;
using Rovett.Service.Credentials;
using Rovett.Service.Http;
using Rovett.Service.Live;
using Rovett.Service.Spaces;
using Rovett.Storage.Sql;

namespace Rovett.Service.Endpoints.Backend;

/// <summary>Channels: roles, topics and everyone, with who is on them.</summary>
public sealed class ChannelsApi(SqlHistory history, SessionRegistry sessions, ServiceClock clock)
{
    const int UsualPage = 50, MostSubscribed = 100;
    static readonly TimeSpan HereHolds = TimeSpan.FromSeconds(1);

    readonly Dictionary<string, (long At, Dictionary<string, HashSet<string>> By)> here = [];

    /// <summary>Lists channels that somebody is on.</summary>
    /// <remarks>By their address. <c>Link</c> leads to the next page. With <c>?address=</c>, shows that channel with its
    /// members.</remarks>
    public Task<object> ListChannels(HttpContext context, Given<ChannelQuery> query)
    {
        var space = context.KeyCaller().Space;
        var (address, search, after) = (query.Value.Address, query.Value.Search, query.Value.After ?? "");
        if (address is not null && search is not null) query.Wrong("search", "can't stand with 'address'");
        int limit = query.Sound().Limit ?? UsualPage;
        var present = Here(space);
        if (address is not null) return Task.FromResult<object>(Show(context, space, address, after, limit, present));
        var found = history.Channels(space.Id, after, limit + 1, search);
        var shown = found.Take(limit).ToList();
        if (after.Length == 0) shown.AddRange(Subscribed(space, present, shown, search));
        if (found.Count > limit)
        {
            var searching = search is null ? "" : $"search={Uri.EscapeDataString(search)}&";
            context.Response.Headers.Link = $"<{space.PathPrefix}/v1/channels?{searching}" +
                $"after={Uri.EscapeDataString(found[limit - 1].Address)}&limit={limit}>; rel=\"next\"";
        }
        return Task.FromResult<object>(new ChannelPage
        {
            Channels = [.. shown.Select(c => new ChannelSummary
            {
                Address = c.Address,
                Members = c.Members,
                Here = present.GetValueOrDefault(c.Address)?.Count ?? 0,
                Sent = c.Sent,
                LastSent = c.Last,
            })],
        });
    }

    /// <summary>Topics that nobody follows and yet some session has subscribed to.</summary>
    IEnumerable<ListedChannel> Subscribed(SpaceRuntime space, Dictionary<string, HashSet<string>> present, List<ListedChannel> shown,
        string? search) => present.Keys
        .Where(a => a.StartsWith("topic:", StringComparison.Ordinal) && shown.TrueForAll(c => c.Address != a)
            && (search is null || a.Contains(search, StringComparison.OrdinalIgnoreCase)))
        .Order(StringComparer.Ordinal).Take(MostSubscribed).Select(a => history.Channel(space.Id, a)!).Where(c => c.Members == 0).ToList();

    ChannelAnswer Show(HttpContext context, SpaceRuntime space, string address, string after, int limit,
        Dictionary<string, HashSet<string>> present)
    {
        var channel = history.Channel(space.Id, address)!;
        var on = present.GetValueOrDefault(address) ?? [];
        var members = history.Members(space.Id, address, after, limit + 1);
        if (members.Count > limit)
        {
            context.Response.Headers.Link = $"<{space.PathPrefix}/v1/channels?address={Uri.EscapeDataString(address)}&" +
                $"after={Uri.EscapeDataString(members[limit - 1].User)}&limit={limit}>; rel=\"next\"";
        }
        var people = members.Take(limit).Select(m => new ChannelPerson
        {
            User = m.User,
            DisplayName = m.DisplayName,
            Member = true,
            Since = m.Since,
            Here = on.Contains(m.User),
        }).ToList();
        if (after.Length == 0 && members.Count <= limit)
        {
            people.AddRange(on.Except(members.Select(m => m.User)).Order(StringComparer.Ordinal).Take(MostSubscribed)
                .Select(user => new ChannelPerson { User = user, Member = false, Here = true }));
        }
        return new ChannelAnswer
        {
            Address = address,
            Members = channel.Members,
            Here = on.Count,
            Sent = channel.Sent,
            LastSent = channel.Last,
            People = people,
        };
    }

    /// <summary>The users on each channel by their sessions; looked at once a second at most.</summary>
    Dictionary<string, HashSet<string>> Here(SpaceRuntime space)
    {
        long now = clock.Due.Micros;
        lock (here)
        {
            if (here.TryGetValue(space.Name, out var known) && now - known.At < (long)HereHolds.TotalMicroseconds && now >= known.At)
                return known.By;
        }
        var by = new Dictionary<string, HashSet<string>>();
        foreach (var session in sessions.In(space.Name))
        {
            foreach (var channel in session.ChannelNames.Where(c => !c.StartsWith("user:", StringComparison.Ordinal)))
            {
                if (!by.TryGetValue(channel, out var users)) by[channel] = users = [];
                users.Add(session.User);
            }
        }
        lock (here) here[space.Name] = (now, by);
        return by;
    }
}
