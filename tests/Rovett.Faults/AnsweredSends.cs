using System.Collections.Concurrent;
using System.Diagnostics;
using System.Text.Json.Nodes;
using Rovett.Client;
using Rovett.Testing;
using Shouldly;

namespace Rovett.Faults;

/// <summary>Sends that are remembered by their keys once they are answered.</summary>
static class AnsweredSends
{
    public static async Task Send(RovettClient client, string key, ConcurrentDictionary<string, string> answered)
    {
        var answer = await client.Send(new JsonObject
        {
            ["to"] = new JsonArray(key.EndsWith("for teo", StringComparison.Ordinal) ? "user:teo" : "role:engineer"),
            ["type"] = "t",
            ["title"] = key
        }, key);
        var id = (string)answer["id"]!;
        answered.GetOrAdd(key, id).ShouldBe(id); // the same key, the same notification, over any number of lives and nodes
    }

    /// <summary>Sends something as often as it takes.</summary>
    public static async Task SendUntilAnswered(RovettClient client, string key, ConcurrentDictionary<string, string> answered)
    {
        for (; ; )
        {
            try
            {
                await Send(client, key, answered);
                return;
            }
            catch (Exception error) when (error is HttpRequestException or RovettRefusedException { Status: 503 } or OperationCanceledException)
            {
                await Task.Delay(20);
            }
        }
    }

    /// <summary>Returns once a send by a node is answered; fails after a minute.</summary>
    public static async Task Writable(ServiceProcess by, string key, ConcurrentDictionary<string, string> answered, string name)
    {
        using var client = new RovettClient(by.Url, key);
        for (var clock = Stopwatch.StartNew(); ;)
        {
            try
            {
                await Send(client, name, answered);
                return;
            }
            catch (Exception error) when (error is HttpRequestException or RovettRefusedException { Status: 503 }
                && clock.Elapsed < TimeSpan.FromMinutes(1))
            {
                await Task.Delay(10);
            }
        }
    }
}
