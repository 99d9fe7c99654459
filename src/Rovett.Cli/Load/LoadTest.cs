using System.Diagnostics;
using System.Globalization;
using System.Text.Json.Nodes;
using Rovett.Client;

namespace Rovett.Cli.Load;

/// <summary>Puts a service under a bounded load and counts what arrives. It works in a space of its own, which is removed at the end with
/// everything in it.</summary>
/// <param name="at">The service.</param>
/// <param name="main">Somebody who may make spaces.</param>
/// <param name="plan">The plan.</param>
/// <param name="tell">Hears what is being done, and how far: from 0 to 1.</param>
sealed class LoadTest(Uri at, RovettClient main, LoadPlan plan, Action<string, double> tell)
{
    const int ConnectingAtOnce = 100, MostUnanswered = 1000;
    static readonly TimeSpan ConnectWithin = TimeSpan.FromSeconds(60), Quiet = TimeSpan.FromSeconds(5);

    readonly LoadCount count = new(plan);
    readonly List<Task> reading = [];
    int current, ended;
    string? trouble;

    /// <summary>Runs it.</summary>
    /// <exception cref="RovettRefusedException">The service refused the space or the credentials.</exception>
    /// <exception cref="LoadException">Sessions could not be connected.</exception>
    public async Task<LoadCount> Run(CancellationToken cancel)
    {
        var name = "load-" + Guid.NewGuid().ToString("N")[..8];
        tell("making a space", 0);
        var made = (await main.Call(HttpMethod.Post, "/v1/spaces", new JsonObject { ["name"] = name }, cancel: cancel))["credentials"]!;
        try
        {
            var space = new Uri($"{at.ToString().TrimEnd('/')}/s/{name}");
            using var backend = new RovettClient(space, (string)made["adminKey"]!);
            using var handler = new SocketsHttpHandler { UseProxy = false, EnableMultipleHttp2Connections = true };
            using var over = CancellationTokenSource.CreateLinkedTokenSource(cancel);
            try
            {
                await Connect(space, (string)made["tokenSigningSecret"]!, handler, over.Token);
                await Send(backend, over.Token);
                await Settle(over.Token);
            }
            finally
            {
                await over.CancelAsync();
                await Task.WhenAll(reading);
            }
            return count;
        }
        finally
        {
            await Remove(name);
        }
    }

    /// <summary>The space that could not be removed; null: it was.</summary>
    public string? Left { get; private set; }

    async Task Remove(string name)
    {
        tell("removing the space", 1);
        try
        {
            await main.Call(HttpMethod.Delete, $"/v1/spaces/{name}", cancel: CancellationToken.None);
        }
        catch (Exception error) when (error is RovettRefusedException or HttpRequestException)
        {
            Left = name;
        }
    }

    async Task Connect(Uri space, string secret, SocketsHttpHandler handler, CancellationToken cancel)
    {
        long began = Stopwatch.GetTimestamp();
        using var turn = new SemaphoreSlim(ConnectingAtOnce);
        for (int i = 0; i < plan.Sessions; i++)
        {
            await turn.WaitAsync(cancel);
            int session = i;
            var connected = new TaskCompletionSource(TaskCreationOptions.RunContinuationsAsynchronously);
            reading.Add(Read(space, secret, handler, session, connected, cancel));
            _ = connected.Task.ContinueWith(_ => turn.Release(), CancellationToken.None, TaskContinuationOptions.ExecuteSynchronously,
                TaskScheduler.Default);
            tell($"connecting {plan.Sessions} sessions", (double)current / plan.Sessions);
            if (Stopwatch.GetElapsedTime(began) > ConnectWithin) break;
        }
        while (Volatile.Read(ref current) < plan.Sessions)
        {
            if (Stopwatch.GetElapsedTime(began) > ConnectWithin || Volatile.Read(ref ended) > 0)
            {
                throw new LoadException($"{current} of {plan.Sessions} sessions are connected. {trouble}");
            }
            await Task.Delay(20, cancel);
            tell($"connecting {plan.Sessions} sessions", (double)current / plan.Sessions);
        }
    }

    async Task Read(Uri space, string secret, SocketsHttpHandler handler, int session, TaskCompletionSource connected,
        CancellationToken cancel)
    {
        await Task.Yield();
        long began = Stopwatch.GetTimestamp();
        bool isCurrent = false;
        var token = Connection.MakeToken(secret, plan.UserOf(session), [plan.RoleOf(session)], TimeSpan.FromHours(1));
        try
        {
            using var live = new LiveConnection(space, _ => new ValueTask<string>(token), new LiveOptions
            { Transport = plan.Transport, Handler = handler, Label = "rovett load", After = "now" });
            await foreach (var message in live.Messages(cancel))
            {
                var kind = (string?)message["kind"];
                if (kind == "current" && !isCurrent)
                {
                    isCurrent = true;
                    count.Connect.RecordValue(Math.Max(1, (long)Stopwatch.GetElapsedTime(began).TotalMilliseconds));
                    Interlocked.Increment(ref current);
                    connected.TrySetResult();
                }
                else if (kind == "notification" && message["data"] is JsonObject data)
                {
                    count.Delivered((int)data["number"]!, long.Parse((string)data["sent"]!, CultureInfo.InvariantCulture));
                }
                trouble = live.LastTrouble ?? trouble;
            }
            if (!cancel.IsCancellationRequested) Interlocked.Increment(ref ended);
        }
        catch (OperationCanceledException)
        {
            // The test is over.
        }
        catch (Exception error) when (error is RovettRefusedException or HttpRequestException or IOException)
        {
            trouble = error is RovettRefusedException refused ? $"{refused.Title}: {refused.Detail} {refused.Fix}" : error.Message;
            Interlocked.Increment(ref ended);
        }
        finally
        {
            connected.TrySetResult();
        }
    }

    async Task Send(RovettClient backend, CancellationToken cancel)
    {
        using var unanswered = new SemaphoreSlim(MostUnanswered);
        using var timer = new PeriodicTimer(TimeSpan.FromMilliseconds(5));
        count.Began = Stopwatch.GetTimestamp();
        int sent = 0;
        while (await timer.WaitForNextTickAsync(cancel))
        {
            var elapsed = Stopwatch.GetElapsedTime(count.Began);
            if (elapsed >= plan.For) break;
            int due = Math.Min((int)(elapsed.TotalSeconds * plan.SendsPerSecond), count.Most);
            while (sent < due)
            {
                await unanswered.WaitAsync(cancel);
                _ = One(backend, sent++, unanswered, cancel);
            }
            tell($"sending {plan.SendsPerSecond} a second", elapsed / plan.For);
        }
        // Those that are under way are waited for: all places are free again.
        for (int i = 0; i < MostUnanswered; i++) await unanswered.WaitAsync(cancel);
    }

    async Task One(RovettClient backend, int number, SemaphoreSlim unanswered, CancellationToken cancel)
    {
        long now = Stopwatch.GetTimestamp();
        int group = Random.Shared.Next(plan.Groups);
        try
        {
            await backend.Call(HttpMethod.Post, "/v1/notifications", new JsonObject
            {
                ["to"] = new JsonArray("role:" + plan.RoleOf(group * plan.FanOut)),
                ["type"] = "load.test",
                ["title"] = "Turnstone: bow thruster check due",
                ["body"] = "The bow thruster is due for its check before the evening crossing; see the list in the engine room.",
                ["data"] = new JsonObject { ["number"] = number, ["sent"] = now.ToString(CultureInfo.InvariantCulture) },
            }, cancel: cancel);
            count.Answered(number, group, now);
        }
        catch (RovettRefusedException refused)
        {
            count.Refused.AddOrUpdate(refused.Slug, 1, (_, n) => n + 1);
        }
        catch (HttpRequestException)
        {
            count.Refused.AddOrUpdate("not-answered", 1, (_, n) => n + 1);
        }
        catch (OperationCanceledException)
        {
            // It was interrupted.
        }
        finally
        {
            unanswered.Release();
        }
    }

    /// <summary>Waits for what is still to come, until nothing has come for a while.</summary>
    async Task Settle(CancellationToken cancel)
    {
        long since = Stopwatch.GetTimestamp();
        while (count.Judge().Missing > 0 && Stopwatch.GetElapsedTime(Math.Max(since, count.LastDelivery)) < Quiet)
        {
            tell("waiting for the last", 1);
            await Task.Delay(50, cancel);
        }
    }
}

/// <summary>A load test could not be carried out.</summary>
sealed class LoadException(string message) : Exception(message);
