namespace Rovett.Core.Nodes;

/// <summary>A log where sessions are held: whom it reaches there.</summary>
/// <param name="id">The log's number.</param>
/// <param name="texts">The log's addresses, by number.</param>
sealed class NodeLog(long id, IReadOnlyList<string> texts)
{
    Roster<NodeMember> members;
    Roster<NodeWatch> watches;

    /// <summary>The log's number.</summary>
    public long Id => id;

    /// <summary>Its addresses, by number.</summary>
    public IReadOnlyList<string> Texts => texts;

    /// <summary>The users whom what comes next reaches.</summary>
    public ref Roster<NodeMember> Members => ref members;

    /// <summary>The sessions that it reaches only because they have subscribed to a topic.</summary>
    public ref Roster<NodeWatch> Watches => ref watches;
}
