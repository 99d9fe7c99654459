using Rovett.Core.Addresses;

namespace Rovett.Simulator;

/// <summary>Gatherings, as they must be.</summary>
public sealed partial class Reference
{
    public sealed class Gathering
    {
        public required string Key { get; init; }
        public required NotificationId Id { get; init; }
        public required long Closes { get; init; }
        public required IReadOnlyList<Address> To { get; init; }
        public required string Type { get; init; }
        public string? Subject { get; init; }
        public HashSet<Address> Except { get; init; } = [];
        public int Events { get; set; }
        /// <summary>The draft of the newest event.</summary>
        public int Draft { get; set; }
        public Gathering Clone() => new()
        {
            Key = Key,
            Id = Id,
            Closes = Closes,
            To = To,
            Type = Type,
            Subject = Subject,
            Except = [.. Except],
            Events = Events,
            Draft = Draft,
        };
    }

    /// <summary>Those that are open.</summary>
    public List<Gathering> Gatherings { get; } = [];

    /// <summary>Told of one that closed, with its notification.</summary>
    public Action<Gathering, Sent>? Gathered { get; set; }

    /// <summary>The users who are looking at a subject.</summary>
    public Func<string?, IEnumerable<string>> Attending { get; set; } = _ => [];

    /// <summary>Rules were loaded: one more entry, and nothing else.</summary>
    public void LoadRules(long now) => Draw(now);

    void CloseGathering(long now, Gathering gathering)
    {
        Gatherings.Remove(gathering);
        var to = gathering.To.Where(a => !gathering.Except.Contains(a)).ToList();
        if (to.Count == 0) return;
        Gathered?.Invoke(gathering, Send(now, to, [.. gathering.Except], gathering.Type, gathering.Subject, null, null, null,
            Attending(gathering.Subject)));
    }
}
