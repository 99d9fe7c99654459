using System.Text.Json.Nodes;
using Rovett.Client;

namespace Rovett.Cli.Demo;

/// <summary>A simulated device of the demo: a real client, connected to the real service, that remembers what it saw.</summary>
sealed class DemoDevice(Uri service, Func<string> token, Person person, string label,
    TimeSpan? deadAfter = null) : IAsyncDisposable
{
    readonly Lock gate = new();
    readonly List<(string Id, string Title, string Time)> got = [];
    readonly List<string> open = [], heard = [];
    List<string> channels = [];
    int refused;
    CancellationTokenSource? stop;
    Task running = Task.CompletedTask;
    LiveConnection? live;
    string? cursor;

    public Person Person { get; } = person;
    public string Label { get; } = label;
    public long? Unread { get; private set; }
    public string? Transport => live?.Transport;
    public bool UpToDate { get; private set; }

    /// <summary>Everything received, in order, over all connections.</summary>
    public IReadOnlyList<(string Id, string Title, string Time)> Got
    {
        get
        {
            lock (gate) return [.. got];
        }
    }

    /// <summary>Whether it is on an address's channel.</summary>
    public bool IsOn(string address)
    {
        lock (gate) return channels.Contains(address);
    }

    /// <summary>What came because it has subscribed: in no list and no number.</summary>
    public bool Heard(string title)
    {
        lock (gate) return heard.Contains(title);
    }

    /// <summary>How often it was refused something.</summary>
    public int Refused
    {
        get
        {
            lock (gate) return refused;
        }
    }

    /// <summary>Whether a notification is in its list: it came, and did not leave again.</summary>
    public bool Lists(string id)
    {
        lock (gate) return open.Contains(id);
    }

    /// <summary>Connects, and resumes after what it has.</summary>
    public void Connect()
    {
        UpToDate = false;
        stop = new CancellationTokenSource();
        live = new LiveConnection(service, _ => new ValueTask<string>(token()),
            new LiveOptions
            {
                Device = $"{Person.Id}-{Label}",
                Label = Label,
                After = cursor,
                AckWithin = TimeSpan.FromMilliseconds(200),
                DeadAfter = deadAfter ?? new LiveOptions().DeadAfter,
            });
        running = Run(live, stop.Token);
    }

    async Task Run(LiveConnection connection, CancellationToken cancel)
    {
        try
        {
            await foreach (var message in connection.Messages(cancel)) Take(message);
        }
        catch (OperationCanceledException)
        {
        }
    }

    void Take(JsonObject message)
    {
        lock (gate)
        {
            var kind = (string)message["kind"]!;
            if (message["cursor"] is { } moved) cursor = (string)moved!;
            if (message["totals"] is { } totals) Unread = (long)totals["unread"]!;
            if (message["channels"] is JsonArray list) channels = [.. list.Select(c => (string)c!)];
            if (kind == "refused") refused++;
            if (kind == "current") UpToDate = true;
            if (kind is "withdrawn" or "expired" or "replaced" or "taken" or "released")
            {
                Unread = (long)message["unread"]!;
                if (kind == "released") open.Add((string)message["id"]!);
                else if (kind != "taken" || (string)message["by"]! != Person.Id) open.Remove((string)message["id"]!);
            }
            if (kind == "notification" && message["counted"] is not null) heard.Add((string)message["title"]!);
            if (kind != "notification" || message["cursor"] is null || message["counted"] is not null) return;
            open.Add((string)message["id"]!);
            got.Add(((string)message["id"]!, (string)message["title"]!, (string)message["time"]!));
            Unread = (long)message["unread"]!;
        }
    }

    public Task Tell(JsonObject message) => live!.Send(message);

    public async Task Disconnect()
    {
        stop?.Cancel();
        await running;
        live?.Dispose();
        live = null;
    }

    public async ValueTask DisposeAsync()
    {
        await Disconnect();
        stop?.Dispose();
    }
}
