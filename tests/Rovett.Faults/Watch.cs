using Rovett.Client;
using Rovett.Testing;

namespace Rovett.Faults;

/// <summary>A device of one user that goes on over all lives.</summary>
sealed class Watch(string user, string[] roles)
{
    readonly HashSet<string> seen = [];
    string? cursor;

    public string User => user;
    public string[] Roles => roles;
    public string Address => user == "teo" ? "user:teo" : "role:engineer";
    public List<string> Received { get; } = [];
    public int OfOthers { get; private set; }

    public bool Has(string id)
    {
        lock (seen) return seen.Contains(id);
    }

    public async Task Receive(Uri url, string secret, CancellationToken cancel)
    {
        using var live = new LiveConnection(url, _ => new ValueTask<string>(TestTokens.Make(secret, user, roles)),
            new LiveOptions { Device = "watch", After = cursor, AckWithin = TimeSpan.FromMilliseconds(100) });
        try
        {
            await foreach (var message in live.Messages(cancel))
            {
                if ((string)message["kind"]! == "notification")
                {
                    if (((string)message["title"]!).EndsWith("for teo", StringComparison.Ordinal) != (user == "teo")) OfOthers++;
                    lock (seen)
                    {
                        Received.Add((string)message["id"]!);
                        seen.Add((string)message["id"]!);
                    }
                }
                if (message["cursor"] is { } moved) cursor = (string)moved!;
            }
        }
        catch (OperationCanceledException)
        {
        }
    }
}
