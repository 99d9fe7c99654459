namespace Rovett.Core.Delivery;

/// <summary>The limits of a session; the defaults are what the service uses.</summary>
public sealed record SessionLimits
{
    /// <summary>How many notifications may be unacknowledged once a session has acknowledged anything.</summary>
    public int Window { get; init; } = 256;
    /// <summary>How many messages may wait to be written; above it a session is fed from its logs instead.</summary>
    public int MaxQueued { get; init; } = 256;
    /// <summary>How many answers may wait for a device that sends and does not read, before it is ended.</summary>
    public int MaxAnswers { get; init; } = 2048;
    /// <summary>How many ephemeral notifications of different keys may wait to be written; more are left out.</summary>
    public int MaxPassing { get; init; } = 64;
    /// <summary>Maximum attempts to send a notification to one session whose handler fails.</summary>
    public int MaxAttempts { get; init; } = 6;
    /// <summary>A heartbeat is written when nothing else was for this long.</summary>
    public TimeSpan Heartbeat { get; init; } = TimeSpan.FromSeconds(20);
    /// <summary>An acknowledgement outstanding for longer is asked for.</summary>
    public TimeSpan AckTimeout { get; init; } = TimeSpan.FromSeconds(10);
    /// <summary>A session counts as silent after this many unanswered questions.</summary>
    public int QuestionsUntilSilent { get; init; } = 3;
}
