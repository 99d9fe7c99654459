using System.Net;
using System.Net.Sockets;
using Microsoft.Data.Sqlite;
using Microsoft.Extensions.Logging.Abstractions;
using Rovett.Service.Diagnostics;
using Rovett.Service.Hosting;
using Rovett.Service.Options;
using Rovett.Storage;
using Rovett.Storage.Sqlite;
using Rovett.Testing;
using Shouldly;
using Xunit;

namespace Rovett.Service.Tests;

/// <summary>One owner for a data folder, credentials that are never lost, and bugs that are told and confined.</summary>
[Trait("home", "folder")]
public sealed class FaultTests : IDisposable
{
    readonly string folder = Directory.CreateTempSubdirectory("rovett-faults-").FullName;

    public void Dispose() => Directory.Delete(folder, recursive: true);

    string Data => Path.Combine(folder, "data");

    static void Execute(string file, string sql)
    {
        using var connection = new SqliteConnection($"Data Source={file};Pooling=False");
        connection.Open();
        using var command = connection.CreateCommand();
        command.CommandText = sql;
        command.ExecuteNonQuery();
    }

    [Fact]
    public async Task A_data_folder_has_one_owner_at_a_time()
    {
        var first = await ServiceUnderTest.Start(folder: Data);
        Should.Throw<StoreException>(
            () => RovettService.Create(new RovettOptions { Data = Data, Port = 0, Log = "error" })).Message.ShouldContain(
            $"in use by process {Environment.ProcessId}");
        (await first.Send("user:mara")).ShouldNotBeEmpty();
        await first.DisposeAsync();
        await using var second = await ServiceUnderTest.Start(folder: Data);
    }

    [Theory]
    [InlineData(true)]
    [InlineData(false)]
    public async Task Credentials_count_only_once_they_were_shown(bool portIsTaken)
    {
        using var taken = new TcpListener(IPAddress.Loopback, 0);
        taken.Start();
        var options = new RovettOptions { Data = Data, Port = 0, Log = "error", Spaces = ["harbour"] };
        if (portIsTaken) options.Port = ((IPEndPoint)taken.LocalEndpoint).Port;
        else options.ReadyFile = Path.Combine(folder, "missing", "ready.json");
        await using (var failing = RovettService.Create(
            options)) (await Should.ThrowAsync<IOException>(() => failing.Start())).Message.ShouldContain(portIsTaken
            ? "address already in use"
            : "ready.json");
        await using (var shown = RovettService.Create(
            options = new RovettOptions
            {
                Data = Data,
                Port = 0,
                Log = "error",
                Spaces = ["harbour"]
            })) await Should.ThrowAsync<InvalidOperationException>(
                    () => shown.Start(() => throw new InvalidOperationException("the terminal is gone")));
        await using var s = await ServiceUnderTest.Start(o => o.Spaces = ["harbour"], folder: Data);
        (await s.Get("/v1/status", s.Key)).Status.ShouldBe(200);
        (await s.Get("/v1/inbox/totals", s.Token("mara"))).Status.ShouldBe(200);
        (await s.Get("/s/harbour/v1/status", s.Credentials["harbour"].AdminKey)).Status.ShouldBe(200);
        await s.Restart();
        s.Service.Credentials.ShouldBeEmpty();
        (await s.Get("/v1/status", s.Key)).Status.ShouldBe(200);
    }

    [Fact]
    public async Task A_poison_due_row_is_set_aside_and_starves_nobody()
    {
        var s = await ServiceUnderTest.Start(o => o.Spaces = ["harbour"], folder: Data);
        s.ExpectsBugs = true;
        var harbour = s.Credentials["harbour"].AdminKey;
        (await s.Post("/v1/notifications", s.Key, """{"to":["user:mara"],"type":"t","title":"short-lived","ttl":1}""")).Status.ShouldBe(
            201);
        (await s.Post("/s/harbour/v1/notifications", harbour,
            """{"to":["user:pia"],"type":"t","title":"short-lived","ttl":1}""")).Status.ShouldBe(201);
        var key = s.Key;
        await s.Service.DisposeAsync();
        Execute(Path.Combine(Data, SqliteFiles.HistoryName),
            "INSERT INTO due (space, at, kind, position, number) SELECT id, 1, 1, 999999, 0 FROM space");
        await s.Restart();
        async Task<(int Aside, long Bugs, string State, string OtherState)> Look()
        {
            var status = (await s.Get("/v1/status", key)).Json!;
            async Task<string> StateOf(string prefix, string key) =>
                (string)(await s.Get($"{prefix}/v1/notifications/{(prefix.Length == 0 ? Newest("main") : Newest("harbour"))}",
                key)).Json!["timeline"]!.AsArray()[^1]!["state"]!;
            return (status["setAside"]!.AsArray().Count, (long)status["bugs"]!, await StateOf("", key),
                await StateOf("/s/harbour", harbour));
        }
        string Newest(string space)
        {
            using var history = SqliteFiles.ReadHistory(Path.Combine(Data, SqliteFiles.HistoryName));
            return history.Newest(space == "main" ? 1 : 2, 1)[0].Id.ToString();
        }
        var seen = await Eventually.Holds(Look, l => l is { Aside: 1, State: "expired", OtherState: "expired" },
            "the poison row is set aside and the others are carried out");
        seen.Bugs.ShouldBeInRange(6, 20); // three tries in each space, and the batches that led to them
        var status = (await s.Get("/v1/status", key)).Json!;
        var aside = status["setAside"]![0]!;
        ((string)aside["kind"]!, (long)aside["position"]!, (string)aside["why"]!, (string)aside["detail"]!["due"]!).ShouldBe(
            ("due", 999999, "NullReferenceException, 3 times", "Expiry"));
        status["faults"]!.AsArray()
            .ShouldContain(f => (string)f!["where"]! == "DueCommand" && (string)f["what"]! == "NullReferenceException");
        await s.DisposeAsync();
    }

    sealed class FakeClock : TimeProvider
    {
        public readonly List<(TimerCallback Work, object? State)> Timers = [];

        public override ITimer CreateTimer(TimerCallback callback, object? state, TimeSpan dueTime, TimeSpan period)
        {
            Timers.Add((callback, state));
            return new Nothing();
        }

        sealed class Nothing : ITimer
        {
            public bool Change(TimeSpan dueTime, TimeSpan period) => true;
            public void Dispose() { }
            public ValueTask DisposeAsync() => default;
        }
    }

    [Theory, InlineData("turnstone-42", true), InlineData("not an id", false)]
    public async Task A_request_that_meets_a_bug_names_its_id_and_hurts_no_other(string given, bool isTaken)
    {
        var s = await ServiceUnderTest.Start(folder: Data);
        s.ExpectsBugs = true;
        var (key, broken) = (s.Key, await s.Send("user:mara"));
        await s.Service.DisposeAsync();
        Execute(Path.Combine(Data, SqliteFiles.HistoryName), "UPDATE entry SET body=x'7b7b' WHERE kind=1");
        await s.Restart();
        var answer = await s.Call(HttpMethod.Get, $"/v1/notifications/{broken}", key, null, ("X-Request-Id", given));
        (answer.Status, answer.Problem).ShouldBe((500, "internal"));
        var instance = (string)answer.Json!["instance"]!;
        if (isTaken) instance.ShouldEndWith(given);
        else instance.ShouldNotContain(given);
        var fault = (await s.Get("/v1/status", key)).Json!["faults"]!.AsArray().ShouldHaveSingleItem()!;
        ((string)fault["where"]!).ShouldContain("/v1/notifications/{id}");
        (await s.Get($"/v1/notifications/{await s.Send("user:mara")}", key)).Status.ShouldBe(200);
        await s.DisposeAsync();
    }

    [Fact]
    public void Repeated_work_that_throws_goes_on_and_is_told()
    {
        var clock = new FakeClock();
        var faults = new Faults(clock, NullLogger<Faults>.Instance);
        int rounds = 0;
        using var work = new Repeating("work", TimeSpan.FromSeconds(1), clock, faults,
            () => ++rounds == 2 ? Task.CompletedTask : throw new InvalidOperationException("a bug"));
        for (int i = 0; i < 3; i++) clock.Timers[0].Work(clock.Timers[0].State);
        (rounds, faults.Bugs).ShouldBe((3, 2));
        faults.Of("main").Single().ShouldSatisfyAllConditions(f => f.Where.ShouldBe("work"), f => f.Count.ShouldBe(2));
    }

    [Fact]
    public async Task Repeated_work_does_not_overlap()
    {
        var clock = new FakeClock();
        var faults = new Faults(clock, NullLogger<Faults>.Instance);
        var gate = new TaskCompletionSource();
        int rounds = 0;
        using var work = new Repeating("work", TimeSpan.FromSeconds(1), clock, faults, () =>
        {
            rounds++;
            return gate.Task;
        });
        clock.Timers[0].Work(clock.Timers[0].State);
        clock.Timers[0].Work(clock.Timers[0].State);
        rounds.ShouldBe(1);
        gate.SetResult();
        await Eventually.Holds(() =>
        {
            clock.Timers[0].Work(clock.Timers[0].State);
            return rounds > 1;
        }, "the next round began");
    }
}
