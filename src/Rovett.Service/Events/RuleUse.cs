namespace Rovett.Service.Events;

/// <summary>How often a rule was used since the service started.</summary>
public sealed class RuleUse
{
    readonly Lock gate = new();
    long matched;
    DateTimeOffset? lastMatched;
    (DateTimeOffset Time, string Reason)? lastFailure;

    /// <summary>An event matched.</summary>
    public void Matched(DateTimeOffset now, string? failure)
    {
        lock (gate)
        {
            matched++;
            lastMatched = now;
            if (failure is not null) lastFailure = (now, failure);
        }
    }

    /// <summary>How many events matched, when the last did, and why the rule failed last.</summary>
    public (long Matched, DateTimeOffset? Last, (DateTimeOffset Time, string Reason)? LastFailure) Read()
    {
        lock (gate) return (matched, lastMatched, lastFailure);
    }
}
