namespace Rovett.Core.Store;

/// <summary>What the commands of a batch will look up in a space: read at once where each question costs a round trip.</summary>
public sealed class AheadList
{
    /// <summary>Users, by id.</summary>
    public HashSet<string> Users { get; } = [];

    /// <summary>Those of them whose logs and marks are looked up, too.</summary>
    public HashSet<string> WithLogs { get; } = [];

    /// <summary>Idempotency keys.</summary>
    public HashSet<string> Answers { get; } = [];

    /// <summary>Events, by source and id.</summary>
    public HashSet<(string Source, string Id)> Events { get; } = [];

    /// <summary>Adds a user with logs and marks.</summary>
    public void Add(string user)
    {
        Users.Add(user);
        WithLogs.Add(user);
    }

    /// <summary>Nothing is asked for.</summary>
    public bool IsEmpty => Users.Count + Answers.Count + Events.Count == 0;
}
