using System.Collections.Concurrent;
using Rovett.Core.Ledger;
using Rovett.Service.Operations;

namespace Rovett.Service.Access;

/// <summary>Who was refused what, in the audit trail: the same once in a while, so that nobody fills it by asking again and again.</summary>
public sealed class Refusals(AuditTrail audit, LedgerPump ledger, ServiceClock clock)
{
    const int MostRemembered = 10_000, LinesPerSecond = 20;
    static readonly TimeSpan SameAgain = TimeSpan.FromMinutes(10);

    readonly ConcurrentDictionary<(string Space, string Who, string What), long> noted = new();
    readonly ConcurrentDictionary<string, Bucket> lines = new();
    long unnoted;

    /// <summary>How many were left out of the trail since the start.</summary>
    public long Unnoted => Interlocked.Read(ref unnoted);

    /// <summary>A user was refused a right on a topic.</summary>
    public async Task Note(string space, string user, string topic, string right, string by)
    {
        if (!IsNew(space, user, $"{right} {topic} {by}")) return;
        if (await ledger.Ask(new NumberCommand(space, user)) is not { } number) return;
        audit.Note(space, AuditTrail.Person(number), "topic.refused", topic, json =>
        {
            json.WriteString("right", right);
            json.WriteString("by", by);
        });
    }

    /// <summary>A backend's key was refused something.</summary>
    public void NoteKey(string space, string actor, string slug, string path)
    {
        if (!IsNew(space, actor, slug + " " + path)) return;
        audit.Note(space, actor, "api-key.refused", path, json => json.WriteString("by", slug));
    }

    bool IsNew(string space, string who, string what)
    {
        long now = clock.Due.Micros;
        var key = (space, who, what);
        bool isNew = !(noted.TryGetValue(key, out var before) && now - before < SameAgain.TotalMicroseconds) && lines.GetOrAdd(space, _ => new Bucket(LinesPerSecond, clock)).Take(out _) == TimeSpan.Zero;
        if (!isNew)
        {
            Interlocked.Increment(ref unnoted);
            return false;
        }
        if (noted.Count > MostRemembered) noted.Clear();
        noted[key] = now;
        return true;
    }
}
