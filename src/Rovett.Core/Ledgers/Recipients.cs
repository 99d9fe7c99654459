using Rovett.Core.Addresses;
using Rovett.Core.Notifications;
using Rovett.Core.Store;

namespace Rovett.Core.Ledgers;

/// <summary>Works out the recipients of a send.</summary>
static class Recipients
{
    /// <summary>Says what will be looked up when a notification is sent.</summary>
    public static void Needs(Draft draft, AheadList ahead)
    {
        foreach (var address in draft.To.Concat(draft.Except))
        {
            if (address.Kind == AddressKind.User) ahead.Users.Add(address.Name);
        }
    }

    public static List<Reach> Of(Ledger ledger, SpaceState state, Draft draft)
    {
        var onlyUsers = draft.To.All(static a => a.Kind == AddressKind.User);
        var except = onlyUsers ? [] : draft.Except.Where(a => a.Kind == AddressKind.User).Select(a => a.Name).ToHashSet();
        var named = onlyUsers ? [] : draft.To.Where(a => a.Kind == AddressKind.User).Select(a => a.Name).ToHashSet();
        var reach = new List<Reach>(draft.To.Count);
        foreach (var address in draft.To)
        {
            var text = address.ToString();
            if (address.Kind == AddressKind.User)
            {
                var user = state.Find(address.Name);
                bool known = user?.IsKnown == true;
                reach.Add(new Reach(text, known ? 1 : 0, user?.Sessions.Exists(s => !s.Silent) == true ? 1 : 0, 1, known));
                continue;
            }
            long members = state.MembersOf(text);
            long left = 0, leftConnected = 0;
            foreach (var name in except.Union(named))
            {
                if (state.Find(name) is not { } user || !user.Holds(text)) continue;
                left++;
                if (user.Sessions.Exists(s => !s.Silent)) leftConnected++;
            }
            bool isTopic = address.Kind == AddressKind.Topic;
            bool isKnown = members >= 0 || address.Kind == AddressKind.Everyone
                || (isTopic ? state.Topics.Current.Set.Covers(address.Name)
                || state.Topics.GrantsOn(address.Name).Count > 0 : state.Role(address.Name) is not null);
            long connected = state.Connected.With(text) - leftConnected;
            if (isTopic)
            {
                connected += state.Subscriptions.On(address.Name)
                    .Where(p => !p.Silent && !p.User.Holds(text) && !except.Contains(p.User.Id.Value) && !named.Contains(p.User.Id.Value))
                    .Select(p => p.User).Distinct().Count();
            }
            reach.Add(new Reach(text, Math.Max(0, members), connected, Math.Max(0, members - left), isKnown));
        }
        return reach;
    }

    /// <exception cref="ProblemException">The service is strict, and an address is unknown; or a deadline waits for too many.</exception>
    public static void Check(Ledger ledger, Draft draft, List<Reach> reach)
    {
        if (ledger.Options.StrictAddresses && reach.Find(r => !r.Known) is { } unknown)
        {
            throw new Problem(422, "unknown-address", "Unknown address", $"{unknown.Address}: no user or role by that name " +
                $"has shown a credential or is in the directory, or no policy is about the topic.",
                "Check the spelling, or turn strictAddresses off to store it for later connections.")
            { Errors = [new FieldError("to", $"{unknown.Address} is not known")] }.ToException();
        }
        if (draft.Deadlines.Any(d => d.Each) && reach.Sum(r => r.Stored) is > Draft.MaxEach and var people)
        {
            throw new Problem(422, "deadline-for-too-many", "Too many people for a deadline each",
                $"It would wait for {people} people; the limit is {Draft.MaxEach}.",
                "Use \"who\":\"anyone\", or send to fewer people.")
            { Errors = [new FieldError("deadlines", $"\"each\" waits for {people} people; the limit is {Draft.MaxEach}")] }.ToException();
        }
    }
}
