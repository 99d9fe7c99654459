using Rovett.Core.Ledgers;
using Rovett.Core.Ledgers.Commands.Topics;
using Rovett.Service.Ledgers;
using Rovett.Service.Limits;

namespace Rovett.Service.Audit;

/// <summary>Who was refused what, in the audit trail: the same once in a while, so that nobody fills it by asking again
/// and again.</summary>
public sealed class Refusals(AuditTrail audit, LedgerPump ledger, ServiceClock clock)
{
    const int MostRemembered = 10_000, MostOfOne = 100, LinesPerSecond = 20, LinesOfOnePerSecond = 5;
    static readonly TimeSpan SameAgain = TimeSpan.FromMinutes(10);

    readonly Dictionary<(string Space, string Who), Dictionary<string, long>> noted = [];
    readonly Lock gate = new();
    readonly Buckets<string> lines = new(LinesPerSecond, MostRemembered, clock);
    readonly Buckets<(string Space, string Who)> linesOfOne = new(LinesOfOnePerSecond, MostRemembered, clock);
    int remembered;
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

    /// <summary>Whether it is to be noted: not the same as a while ago, and not more than one may have noted, so that
    /// others' lines have room.</summary>
    bool IsNew(string space, string who, string what)
    {
        long now = clock.Due.Micros;
        lock (gate)
        {
            if (remembered >= MostRemembered) Forget(now);
            if (!noted.TryGetValue((space, who), out var own)) noted[(space, who)] = own = [];
            if (!(own.TryGetValue(what, out long before) && now - before < SameAgain.TotalMicroseconds) && MayHaveAnother(own, now)
                && linesOfOne.Take((space, who)) && lines.Take(space))
            {
                if (own.TryAdd(what, now)) remembered++;
                own[what] = now;
                return true;
            }
        }
        Interlocked.Increment(ref unnoted);
        return false;
    }

    bool MayHaveAnother(Dictionary<string, long> own, long now)
    {
        if (own.Count < MostOfOne) return true;
        foreach (var old in own.Where(o => now - o.Value >= SameAgain.TotalMicroseconds).Select(o => o.Key).ToList())
        {
            own.Remove(old);
            remembered--;
        }
        return own.Count < MostOfOne;
    }

    /// <summary>Forgets what is old; when nothing is, the one with the most lines forgotten is noted anew, and nobody else.</summary>
    void Forget(long now)
    {
        foreach (var (who, own) in noted.ToList())
        {
            MayHaveAnother(own, now);
            if (own.Count == 0) noted.Remove(who);
        }
        remembered = noted.Values.Sum(o => o.Count);
        while (remembered > MostRemembered / 2 && noted.MaxBy(o => o.Value.Count) is { Value: not null } most)
        {
            remembered -= most.Value.Count;
            noted.Remove(most.Key);
        }
    }
}
