using System.Collections.Concurrent;
using System.Globalization;
using System.Text;
using System.Text.Json.Nodes;
using Rovett.Client;
using Rovett.Testing;
using Shouldly;
using Xunit;

namespace Rovett.Faults;

/// <summary>kill -9 at random instants while events are published: the notifications are those of an undisturbed run, and an event
/// that is published again is answered the same over any number of lives. <c>ROVETT_EVENTS</c> and <c>ROVETT_EVENT_KILLS</c> make a long
/// run of it.</summary>
public sealed class EventCrashTests
{
    const int Chunk = 20, Groups = 5;
    const string Rules = """
        rules:
          - { name: plain, event: plain, to: ["user:mara"], notification: { title: "{{ data.n }}" } }
          - { name: each, event: each, to: { each: data:/crew, address: "user:{{ item }}" }, notification: { title: "{{ data.n }}" } }
          - { name: fails, event: each, to: ["user:mara"], when: { data:/bad: true }, notification: { title: "{{ data.missing }}" } }
          - name: gathered
            event: gathered
            to: ["user:mara"]
            gather: { within: 3s, title: "{{ count }} of {{ data.group }}" }
            notification: { title: "1 of {{ data.group }}", subject: "group/{{ data.group }}" }
        """;

    static readonly int Events = Number("ROVETT_EVENTS", 1200), Kills = Number("ROVETT_EVENT_KILLS", 6);

    static int Number(string name, int otherwise) =>
        int.TryParse(Environment.GetEnvironmentVariable(name), out int number) ? number : otherwise;

    static BackendEvent Event(int n)
    {
        var (type, data) = (n % 4) switch
        {
            0 => ("plain", new JsonObject { ["n"] = n }),
            1 or 2 => ("each", new JsonObject { ["n"] = n, ["crew"] = new JsonArray("mara", "teo"), ["bad"] = n % 8 == 1 }),
            _ => ("gathered", new JsonObject { ["group"] = n % Groups }),
        };
        return new BackendEvent("/test", type, null, data) { Id = n.ToString(CultureInfo.InvariantCulture) };
    }

    [Fact]
    public async Task Kills_change_nothing_of_what_events_make()
    {
        var folder = Directory.CreateTempSubdirectory("rovett-events-").FullName;
        int seed = Environment.TickCount;
        var random = new Random(seed);
        var answers = new ConcurrentDictionary<int, string>();
        try
        {
            string key = "", secret = "";
            for (int life = 0; life <= Kills; life++)
            {
                using var service = await ServiceProcess.Start(folder);
                if (life == 0)
                {
                    (key, secret) = ((string)service.Ready["credentials"]!["adminKey"]!,
                        (string)service.Ready["credentials"]!["tokenSigningSecret"]!);
                    using var loading = new RovettClient(service.Url, key);
                    await loading.Call(HttpMethod.Put, "/v1/rules", () => new StringContent(Rules, Encoding.UTF8, "application/yaml"));
                }
                using var events = new RovettEvents(new RovettSendOptions { Url = service.Url, Key = key, Retries = 0 });
                if (life == Kills)
                {
                    await Publish(events, 0, Events, answers);
                    await Check(service.Url, key, secret, seed);
                    (await service.Terminate()).ShouldBe(0);
                    break;
                }
                int upTo = Events * (life + 1) / (Kills + 1), before = answers.Count;
                var publishing = Task.Run(() => PublishUntilKilled(events, Math.Max(0, before - 3 * Chunk), upTo, answers));
                await Eventually.Holds(() => answers.Count > before + Chunk || publishing.IsCompleted, "events are under way", 60);
                await Task.Delay(random.Next(0, 60)); // the instant of the kill is what is tested
                await service.Kill();
                await publishing;
            }
            answers.Count.ShouldBe(Events);
        }
        finally
        {
            Directory.Delete(folder, recursive: true);
        }
    }

    static async Task PublishUntilKilled(RovettEvents events, int from, int to, ConcurrentDictionary<int, string> answers)
    {
        try
        {
            await Publish(events, from, to, answers);
        }
        catch (HttpRequestException)
        {
            // killed: these were not answered
        }
    }

    static async Task Publish(RovettEvents events, int from, int to, ConcurrentDictionary<int, string> answers)
    {
        for (int n = from; n < to; n += Chunk)
        {
            var outcomes = await events.PublishMany(Enumerable.Range(n, Math.Min(Chunk, to - n)).Select(Event));
            for (int i = 0; i < outcomes.Count; i++)
            {
                var answer =
                    string.Join(' ', outcomes[i].Published!.Notifications.Append($"{outcomes[i].Published!.SetAside is not null}"));
                answers.GetOrAdd(n + i, answer).ShouldBe(answer); // the same event, the same answer, over any number of lives
            }
        }
    }

    static async Task Check(Uri url, string key, string secret, int seed)
    {
        var all = Enumerable.Range(0, Events).ToList();
        int gathered = all.Count(n => n % 4 == 3);
        await Eventually.Holds(async () => (await Titles(url, secret, "mara")).Sum(Gathered), sum => sum == gathered,
            "gatherings to close", 60);
        foreach (var (user, expected) in new[] { ("mara", all.Where(n => n % 4 != 3)), ("teo", all.Where(n => n % 4 is 1 or 2)) })
        {
            var titles = (await Titles(url, secret, user)).Where(t => Gathered(t) == 0)
                .Select(t => int.Parse(t, CultureInfo.InvariantCulture));
            titles.Order().ShouldBe(expected, $"seed {seed}: {user}");
        }
        using var client = new RovettClient(url, key);
        ((int)(await client.Call(HttpMethod.Get, "/v1/set-aside"))["count"]!).ShouldBe(all.Count(n => n % 8 == 1), $"seed {seed}");
    }

    static int Gathered(string title) => title.Split(" of ") is [var count, _] ? int.Parse(count, CultureInfo.InvariantCulture) : 0;

    static async Task<List<string>> Titles(Uri url, string secret, string user)
    {
        var titles = new List<string>();
        using var client = new RovettClient(url, TestTokens.Make(secret, user, []));
        for (var path = "/v1/inbox?limit=100"; path is not null;)
        {
            var page = await client.Call(HttpMethod.Get, path);
            titles.AddRange(page["items"]!.AsArray().Select(i => (string)i!["title"]!));
            path = (string?)page["next"];
        }
        return titles;
    }
}
