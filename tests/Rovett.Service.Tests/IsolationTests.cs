using System.Text;
using Rovett.Testing;
using Shouldly;
using Xunit;

namespace Rovett.Service.Tests;

/// <summary>A unique string for each address; then every byte that every session received is searched for all others'.</summary>
public sealed class IsolationTests
{
    sealed record Listener(string Space, string User, string[] Roles, RawConnection Live)
    {
        public bool MayHave(string space, string address) => space == Space
            && (address == "everyone" || address == "user:" + User
            || Roles.Contains(address.Split(':')[1]) && address.StartsWith("role:", StringComparison.Ordinal));
    }

    [Fact]
    public async Task No_byte_of_anybody_elses_reaches_a_session_in_two_spaces_through_cuts_resumes_and_role_changes()
    {
        await using var s = await ServiceUnderTest.Start(o => o.Spaces = ["harbour"]);
        string[] people = ["mara", "ivo", "teo", "nils"];
        string[][] roles = [["engineer"], ["engineer", "bridge"], ["deckhand"], []];
        string[] addresses = [.. people.Select(p => "user:" + p), "role:engineer", "role:bridge", "role:deckhand", "role:duty-manager",
            "everyone"];
        string[] spaces = ["main", "harbour"];
        var canaries = new Dictionary<(string Space, string Address), string>();
        foreach (var space in spaces)
        {
            foreach (var address in addresses) canaries[(space, address)] = "canary" + Guid.NewGuid().ToString("N");
        }
        string Path(string space) => space == "main" ? "" : "/s/" + space;
        string Token(string space, string user, string[] held) => TestTokens.Make(s.Credentials[space].TokenSigningSecret, user, held);

        async Task<List<Listener>> Connect(int round)
        {
            var list = new List<Listener>();
            foreach (var space in spaces)
            {
                for (int i = 0; i < people.Length; i++)
                {
                    var token = Token(space, people[i], roles[i]);
                    var path = Path(space) + "/v1/live?device=d" + round;
                    RawConnection live = (i + round) % 2 == 0
                        ? await RawWebSocket.Connect(s.Port, path, token)
                        : await RawEvents.Connect(s.Port, path, token);
                    live.Recording = new MemoryStream();
                    await live.Next("opened");
                    list.Add(new Listener(space, people[i], roles[i], live));
                }
            }
            return list;
        }

        async Task SendAll(int round)
        {
            await Task.WhenAll(canaries.Select(async c =>
            {
                var (space, address) = c.Key;
                var answer = await s.Post(Path(space) + "/v1/notifications", s.Credentials[space].AdminKey,
                    $$"""{"to":["{{address}}"],"type":"t","title":"{{c.Value}} {{round}}","subject":"{{c.Value}}","data":{"c":"{{c.Value}}"},"link":"/{{c.Value}}"}""");
                answer.Status.ShouldBe(201);
            }));
            foreach (var space in spaces)
            {
                // Several addresses at once: nobody learns the others.
                var answer = await s.Post(Path(space) + "/v1/notifications", s.Credentials[space].AdminKey,
                    $$"""{"to":["user:mara","role:deckhand"],"except":["user:nils"],"type":"t","title":"shared in {{space}}"}""");
                answer.Status.ShouldBe(201);
            }
        }

        var all = new List<Listener>();
        for (int round = 0; round < 3; round++)
        {
            var listeners = await Connect(round);
            all.AddRange(listeners);
            await SendAll(round);
            foreach (var l in listeners)
            {
                int expected = addresses.Count(a => l.MayHave(l.Space, a)) + (l.User is "mara" or "teo" ? 1 : 0);
                var got = await l.Live.Notifications(expected);
                got.Select(n => ((string)n["title"]!).Split(' ')[0]).Where(t => t.StartsWith("canary", StringComparison.Ordinal)).Order()
                    .ShouldBe(canaries.Where(c => l.MayHave(c.Key.Space, c.Key.Address)).Select(c => c.Value).Order());
                l.Live.Cut();
            }
        }
        // A role that was lost: nothing of it, old or new, by any path.
        var exEngineer = Token("main", "mara", ["deckhand"]);
        var inbox = await s.Get("/v1/inbox?limit=200", exEngineer);
        using var resumed = await s.Events(exEngineer, "?after=AAAAAAAAAAAAAAAAAAAAAA");
        resumed.Recording = new MemoryStream();
        await resumed.Next("current");
        all.Add(new Listener("main", "mara", ["deckhand"], resumed));
        inbox.Text.ShouldNotContain(canaries[("main", "role:engineer")]);

        foreach (var l in all)
        {
            var bytes = Encoding.UTF8.GetString(l.Live.Recording!.ToArray());
            foreach (var ((space, address), canary) in canaries)
            {
                if (!l.MayHave(space, address)) bytes.Contains(canary).ShouldBeFalse($"{address} of {space} reached {l.User} of {l.Space}");
            }
            foreach (var stranger in people.Where(p => p != l.User)) bytes.ShouldNotContain("user:" + stranger);
            if (!l.Roles.Contains("deckhand")) bytes.ShouldNotContain("role:deckhand");
        }
        all.Sum(l => l.Live.Recording!.Length).ShouldBeGreaterThan(10_000);
    }
}
