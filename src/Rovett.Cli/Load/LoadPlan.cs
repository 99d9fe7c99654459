using Rovett.Client;

namespace Rovett.Cli.Load;

/// <summary>What a load test does.</summary>
/// <param name="Sessions">Live sessions, each for a different user.</param>
/// <param name="SendsPerSecond">Notifications sent a second.</param>
/// <param name="FanOut">How many sessions each of them reaches: all who hold the role that it goes to.</param>
/// <param name="For">For how long it is sent.</param>
/// <param name="Transport">How the sessions connect.</param>
sealed record LoadPlan(int Sessions, int SendsPerSecond, int FanOut, TimeSpan For, LiveTransport Transport)
{
    public const int MostSessions = 20_000, MostSendsPerSecond = 10_000;
    public static readonly TimeSpan Longest = TimeSpan.FromMinutes(10);

    /// <summary>Sessions fall into groups, each with a role.</summary>
    public int Groups => (Sessions + FanOut - 1) / FanOut;

    public string UserOf(int session) => $"load-{session}";

    public string RoleOf(int session) => $"load-group-{session / FanOut}";

    /// <summary>How many sessions are in a group; the last may be smaller.</summary>
    public int SizeOf(int group) => Math.Min(FanOut, Sessions - (group * FanOut));
}
