using System.Text;
using System.Text.Json.Nodes;
using Rovett.Testing;
using Shouldly;
using Xunit;

namespace Rovett.EndToEnd;

/// <summary>No secret is found in anything that is written for people: logs at their most talkative, problems, lists,
/// the audit trail; nor, of
/// those that need not be used again, on the disk.</summary>
public sealed class SecretTests : IDisposable
{
    readonly string folder = Directory.CreateTempSubdirectory("rovett-secrets-").FullName;

    public void Dispose() => Directory.Delete(folder, recursive: true);

    [Fact]
    public async Task Planted_secrets_are_found_in_no_log_problem_list_or_trail()
    {
        var answers = new StringBuilder();
        var secrets = new Dictionary<string, string>();
        string printed;
        using (var service = await ServiceProcess.Start(folder, log: "verbose"))
        {
            using var http = new HttpClient(new SocketsHttpHandler { UseProxy = false, UseCookies = false }) { BaseAddress = service.Url };
            async Task<JsonNode?> Call(string method, string path, string? credential, string? body = null, bool keep = true,
                params (string, string)[] headers)
            {
                using var request = new HttpRequestMessage(new HttpMethod(method), path);
                if (credential is not null) request.Headers.TryAddWithoutValidation("Authorization", "Bearer " + credential);
                foreach (var (name, value) in headers) request.Headers.TryAddWithoutValidation(name, value);
                if (body is not null) request.Content = new StringContent(body, Encoding.UTF8, "application/json");
                using var limit = new CancellationTokenSource(TimeSpan.FromSeconds(20));
                using var response = await http.SendAsync(request, HttpCompletionOption.ResponseHeadersRead, limit.Token);
                if (response.Content.Headers.ContentType?.MediaType == "text/event-stream") return null;
                var text = await response.Content.ReadAsStringAsync(limit.Token);
                if (keep) answers.AppendLine(text);
                return text.StartsWith('{') ? JsonNode.Parse(text) : null;
            }

            var admin = secrets["admin key"] = (string)service.Ready["credentials"]!["adminKey"]!;
            var signing = secrets["signing secret"] = (string)service.Ready["credentials"]!["tokenSigningSecret"]!;
            secrets["sign-up link"] = ((string)service.Ready["consoleSignUp"]!).Split("sign-up=")[1];
            var token = secrets["token"] = TestTokens.Make(signing, "mara", ["engineer"]);
            var ended = secrets["ended token"] = TestTokens.Make(signing, "mara", lifetime: TimeSpan.FromHours(-1));
            var forged = secrets["forged token"] = TestTokens.Make(new string('q', 43), "mara");
            secrets["second key"] =
                (string)(await Call("POST", "/v1/keys", admin, """{"name":"k","scopes":["send"]}""", keep: false))!["key"]!;
            secrets["second secret"] = (string)(await Call("POST", "/v1/signing-keys", admin, """{"name":"s"}""", keep: false))!["secret"]!;
            secrets["given secret"] = "a given secret that is long enough, 0123456789";
            await Call("POST", "/v1/signing-keys", admin,
                new JsonObject { ["name"] = "given", ["secret"] = secrets["given secret"] }.ToJsonString());
            secrets["short secret"] = "sesame-0815";
            await Call("POST", "/v1/signing-keys", admin,
                new JsonObject { ["name"] = "short", ["secret"] = secrets["short secret"] }.ToJsonString());
            secrets["ticket"] = (string)(await Call("POST", "/v1/tickets", token, "{}", keep: false))!["ticket"]!;
            secrets["password"] = "a password with 4711";

            // Right and wrong, everywhere a credential may stand.
            foreach (var credential in new[] { token, ended, forged, admin, secrets["second key"], secrets["second secret"], admin + "x" })
            {
                foreach (var path in new[] { "/v1/inbox", "/v1/status", "/v1/keys", "/v1/signing-keys", "/v1/settings",
                    "/v1/live?after=nonsense", "/s/none/v1/inbox", "/v1/none" })
                {
                    await Call("GET", path, credential);
                }
                await Call("POST", "/v1/notifications", credential, """{"to":["user:mara"],"type":"t","title":"t"}""");
                await Call("POST", "/v1/notifications", credential, "{broken");
                await Call("GET", "/v1/inbox", credential, null, true, ("Origin", "https://evil.example"));
            }
            foreach (var ticket in new[] { secrets["ticket"], "rovett_ticket_" + secrets["admin key"], secrets["ticket"] })
            {
                using var socket = await RawWebSocket.Connect(service.Url.Port,
                    "/v1/live?device=d&ticket=" + Uri.EscapeDataString(ticket), null);
                answers.AppendLine((await socket.Next())?.ToJsonString());
                await socket.Text(new JsonObject { ["kind"] = "renew", ["token"] = forged }.ToJsonString());
                await socket.Text(new JsonObject { ["kind"] = "renew", ["token"] = token, ["requestId"] = "r" }.ToJsonString());
                await socket.Text(token);
                for (JsonObject? m = null; (m = await socket.Next()) is not null && (string?)m["kind"] != "current";)
                {
                    answers.AppendLine(m.ToJsonString());
                }
            }
            await Call("GET", "/v1/live?ticket=" + secrets["ticket"], null, null, true, ("Accept", "text/event-stream"));
            foreach (var name in new[] { "ruth", "ruth" })
                await Call("POST", "/console/api/sign-up", null,
                    new JsonObject
                    {
                        ["name"] = name,
                        ["password"] = secrets["password"],
                        ["link"] = secrets["sign-up link"]
                    }.ToJsonString(), true, ("X-Rovett-Console", "1"));
            await Call("POST", "/console/api/sign-in", null,
                new JsonObject { ["name"] = "teo", ["password"] = secrets["password"] }.ToJsonString(), true, ("X-Rovett-Console", "1"));
            await Call("DELETE", "/v1/signing-keys/s", admin);
            foreach (var path in new[] { "/v1/audit", "/v1/sessions", "/v1/limits", "/v1/keys", "/v1/signing-keys", "/v1/users" })
            {
                await Call("GET", path, admin);
            }
            (await service.Terminate()).ShouldBe(0);
            printed = service.Printed;
        }
        printed.ShouldContain("Credentials for space main (shown only once)"); // so that it is this output that was searched
        var logged = string.Join('\n', printed.Split('\n').Where(line => !line.Contains("export ROVETT_") && !line.Contains("sign-up=")));
        answers.ToString().ShouldContain("token-expired");
        answers.ToString().ShouldContain("signing-key.added");
        foreach (var (name, secret) in secrets)
        {
            logged.ShouldNotContain(secret, Case.Sensitive, name);
            answers.ToString().ShouldNotContain(secret, Case.Sensitive, name);
        }
        var stored = new StringBuilder();
        foreach (var file in Directory.EnumerateFiles(Path.Combine(folder, "data"), "*", SearchOption.AllDirectories))
        {
            stored.Append(Encoding.Latin1.GetString(await File.ReadAllBytesAsync(file, TestContext.Current.CancellationToken)));
        }
        // What must be used is there, so that it is these files that were searched.
        stored.ToString().ShouldContain(secrets["signing secret"]);
        foreach (var name in new[] { "admin key", "second key", "ticket", "sign-up link", "password", "token" })
        {
            stored.ToString().ShouldNotContain(secrets[name], Case.Sensitive, name);
        }
    }
}
