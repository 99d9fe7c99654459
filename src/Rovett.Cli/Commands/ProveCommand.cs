using System.CommandLine;
using System.Security.Cryptography;
using System.Text.Json.Nodes;
using Rovett.Client;
using Spectre.Console;

namespace Rovett.Cli.Commands;

/// <summary><c>rovett prove</c></summary>
static class ProveCommand
{
    public static Command Build()
    {
        var connection = new Connection();
        var to = new Option<string>("--to") { Description = "User who must get it, such as user:mara.", Required = true };
        var not = new Option<string>("--not") { Description = "User who must not get it, such as user:teo.", Required = true };
        var on = new Option<string?>("--on")
        { Description = "Address of the test notification, such as role:engineer. Default: the first user." };
        var stored = new Option<bool>("--stored")
        {
            Description = "Send it as a stored notification, and look into both inboxes too; it " +
            "is withdrawn afterwards. Without: only to who is connected now."
        };
        var command = new Command("prove", """
            Prove that one user receives what is sent to an address and another does not: connects both, sends a marked
            test, and searches every byte that reaches the second user for the mark.

            Example:
              rovett prove --to user:mara --not user:teo --on role:engineer
            """) { to, not, on, stored };
        Connection.Add(command, connection.Key, connection.Secret, connection.Url, connection.Space, connection.Json);
        command.SetAction((parsed, cancel) => Output.Guard(async () =>
        {
            var (wanted, other) = (UserOf(parsed.GetValue(to)!, "--to"), UserOf(parsed.GetValue(not)!, "--not"));
            if (wanted == other) throw new UsageException("--to and --not name the same user.", "Name two.");
            var address = parsed.GetValue(on) ?? "user:" + wanted;
            using var client = connection.Backend(parsed);
            var secret = connection.SecretOf(parsed);
            await Connection.RequireKnown(client, wanted, "--to", "Users are known once they have connected.", cancel);
            await Connection.RequireKnown(client, other, "--not", "Users are known once they have connected.", cancel);
            using var proof = new Proof(client, connection.At(parsed), secret, wanted, other, address, parsed.GetValue(stored));
            var (proven, report) = await proof.Run(cancel);
            if (parsed.GetValue(connection.Json)) Output.Json(report);
            else
            {
                foreach (var line in report["lines"]!.AsArray())
                {
                    AnsiConsole.MarkupLine(
                        $"  {((bool)line!["holds"]! ? "[green]✓[/]" : "[red]✗[/]")}  {Output.Plain((string?)line["what"])}");
                }
                AnsiConsole.MarkupLine(proven ? "[green]Proven.[/]"
                    : $"[red]Not proven.[/] See why: rovett explain --user " +
                    $"{Output.Plain(Output.Quoted(report["got"]!.GetValue<bool>() ? other : wanted))} --on " +
                    $"{Output.Plain(Output.Quoted(address))}");
            }
            return proven ? 0 : 1;
        }));
        return command;
    }

    static string UserOf(string text, string option) => text.StartsWith("user:", StringComparison.Ordinal)
        && text.Length > 5 ? text[5..] : throw new UsageException($"{option}: '{text}' is not a user's address.", "Write it as user:mara.");

    /// <summary>One run: two sessions, a marked test, and a fence behind it that says when everything before it has come.</summary>
    sealed class Proof(RovettClient client, Uri at, string secret, string wanted, string other, string address, bool stored) : IDisposable
    {
        static readonly TimeSpan Patience = TimeSpan.FromSeconds(15);
        readonly string mark = "proof-" + Convert.ToHexStringLower(RandomNumberGenerator.GetBytes(12));
        readonly JsonArray lines = [];
        readonly CancellationTokenSource stop = new();

        sealed class Ear(string user)
        {
            public readonly string User = user;
            public readonly List<string> Heard = [];
            public readonly TaskCompletionSource Open = new(TaskCreationOptions.RunContinuationsAsynchronously),
                Subscribed = new(TaskCreationOptions.RunContinuationsAsynchronously),
                Fence = new(TaskCreationOptions.RunContinuationsAsynchronously);
            public bool MayTake;
            public LiveConnection Live = null!;
            public Task Work = Task.CompletedTask;

            public bool Has(string text)
            {
                lock (Heard) return Heard.Exists(h => h.Contains(text, StringComparison.Ordinal));
            }
        }

        public async Task<(bool Proven, JsonObject Report)> Run(CancellationToken cancel)
        {
            var (first, second) = (new Ear(wanted), new Ear(other));
            Ear[] ears = [first, second];
            foreach (var ear in ears) ear.Work = Listen(ear);
            await All(ears.Select(e => e.Open.Task), "both are connected", cancel);
            if (address.StartsWith("topic:", StringComparison.Ordinal))
            {
                foreach (var ear in ears)
                {
                    await ear.Live.Send(new JsonObject { ["kind"] = "subscribe", ["topic"] = address[6..], ["requestId"] = "subscribe" },
                        cancel);
                }
                await All(ears.Select(e => e.Subscribed.Task), "both asked for the topic", cancel);
                Line(first.MayTake, $"{wanted} may subscribe to {address}", $"{wanted} is refused on {address}");
                Line(!second.MayTake, $"{other} is refused on {address}", $"{other} may subscribe to {address}");
            }
            var test = new JsonObject { ["to"] = new JsonArray(address), ["type"] = "rovett.proof", ["title"] = mark };
            if (!stored) test["store"] = false;
            var sent = await client.Call(HttpMethod.Post, "/v1/notifications", test, cancel: cancel);
            // Sent after it, and to each of them: when it has come, what was sent before it has come, or never will.
            await client.Call(HttpMethod.Post, "/v1/notifications",
                new JsonObject
                {
                    ["to"] = new JsonArray("user:" + wanted, "user:" + other),
                    ["type"] = "rovett.proof.fence",
                    ["title"] = mark[..18] + "/fence",
                    ["store"] = false
                }, cancel: cancel);
            await All(ears.Select(e => e.Fence.Task), "both have what was sent after the test", cancel);
            Line(first.Has(mark), $"{wanted} got the test that was sent to {address}",
                $"{wanted} did not get the test that was sent to {address}");
            Line(!second.Has(mark), $"{other} did not get it: it is in none of the {second.Heard.Count} messages that came",
                $"{other} got the test too");
            if (stored)
            {
                var id = (string)sent["id"]!;
                Line(await InInbox(wanted, id, cancel), $"it is in {wanted}'s inbox", $"it is not in {wanted}'s inbox");
                Line(!await InInbox(other, id, cancel), $"it is not in {other}'s, and asking for it by its id finds nothing",
                    $"it is in {other}'s inbox too");
                await client.Call(HttpMethod.Delete, $"/v1/notifications/{id}", cancel: cancel);
            }
            await stop.CancelAsync();
            await Task.WhenAll(ears.Select(e => e.Work));
            bool proven = lines.All(l => (bool)l!["holds"]!);
            return (proven, new JsonObject
            {
                ["proven"] = proven,
                ["to"] = "user:" + wanted,
                ["not"] = "user:" + other,
                ["on"] = address,
                ["mark"] = mark,
                ["got"] = first.Has(mark),
                ["lines"] = lines
            });
        }

        /// <summary>What was seen: one sentence where it is as it must be, another where it is not.</summary>
        void Line(bool holds, string good, string bad) => lines.Add(new JsonObject { ["what"] = holds ? good : bad, ["holds"] = holds });

        string Token(string user) => Connection.MakeToken(secret, user, null, TimeSpan.FromMinutes(5));

        async Task<bool> InInbox(string user, string id, CancellationToken cancel)
        {
            using var asUser = new RovettClient(at, Token(user));
            try
            {
                await asUser.Call(HttpMethod.Get, $"/v1/inbox/{id}", cancel: cancel);
                return true;
            }
            catch (RovettRefusedException refused) when (refused.Status == 404)
            {
                return false;
            }
        }

        async Task Listen(Ear ear)
        {
            using var live = ear.Live = new LiveConnection(at, _ => new ValueTask<string>(Token(ear.User)),
                new LiveOptions
                {
                    Device = "rovett-prove",
                    Label = "rovett prove",
                    After = "now",
                    AutoAcknowledge = false,
                    Reconnect = false
                });
            try
            {
                await foreach (var message in live.Messages(stop.Token))
                {
                    var text = message.ToJsonString();
                    lock (ear.Heard) ear.Heard.Add(text);
                    if ((string?)message["kind"] == "current") ear.Open.TrySetResult();
                    if ((string?)message["requestId"] == "subscribe")
                    {
                        ear.MayTake = (string?)message["kind"] == "done";
                        ear.Subscribed.TrySetResult();
                    }
                    if ((string?)message["type"] == "rovett.proof.fence"
                        && ((string?)message["title"])!.StartsWith(mark[..18], StringComparison.Ordinal))
                    {
                        ear.Fence.TrySetResult();
                    }
                }
            }
            catch (OperationCanceledException)
            {
            }
            catch (RovettRefusedException refused)
            {
                foreach (var waited in new[] { ear.Open, ear.Subscribed, ear.Fence }) waited.TrySetException(refused);
            }
        }

        static async Task All(IEnumerable<Task> tasks, string what, CancellationToken cancel)
        {
            try
            {
                await Task.WhenAll(tasks).WaitAsync(Patience, cancel);
            }
            catch (TimeoutException)
            {
                throw new UsageException($"Timed out after {Patience.TotalSeconds:0} s; still waiting for: {what}.",
                    "The service may be overloaded, or a proxy may be buffering the stream. Try again.");
            }
        }

        public void Dispose() => stop.Dispose();
    }
}
