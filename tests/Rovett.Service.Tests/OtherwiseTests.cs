using System.Text.Json.Nodes;
using Rovett.Cli.Demo;
using Rovett.Service.Outbound;
using Rovett.Testing;
using Shouldly;
using SmtpServer.Protocol;
using Xunit;
using static Rovett.Service.Tests.Events.EventGround;

namespace Rovett.Service.Tests;

/// <summary>What missed deadlines do: several things at once, webhooks and e-mails among them.</summary>
public sealed class OtherwiseTests : IAsyncLifetime
{
    readonly TestClock clock = new();
    readonly MailCatcher mail = new();
    readonly CalledBackend pager = new() { Answer = _ => (204, "") };
    ServiceUnderTest service = null!;
    string mara = "", ruth = "";

    public async ValueTask InitializeAsync()
    {
        service = await ServiceUnderTest.Start(o => o.WebhookNetworks = ["127.0.0.0/8"], clock);
        mara = service.Token("mara", "engineer");
        ruth = service.Token("ruth", "duty-manager");
        foreach (var token in new[] { mara, ruth }) await service.Get("/v1/totals", token);
        await Set($$$"""
            {"mail":{"host":"127.0.0.1","port":{{{mail.Port}}},"security":"none","from":"watch@marrowsound.example",
            "fromName":"Marrow Sound Ferries","domains":["marrowsound.example"],"linkBase":"https://crew.marrowsound.example"}}
            """);
        var made = await service.Call(HttpMethod.Put, "/v1/webhooks/pager", service.Key,
            $$"""{"url":"{{pager.Url}}","secret":"whsec_{{Convert.ToBase64String(new byte[32])}}","purpose":"otherwise"}""");
        made.Status.ShouldBe(201, made.Text);
    }

    public async ValueTask DisposeAsync()
    {
        await service.DisposeAsync();
        await mail.DisposeAsync();
        await pager.DisposeAsync();
    }

    async Task Set(string patch)
    {
        var answer = await service.Call(HttpMethod.Patch, "/v1/settings", service.Key, patch);
        answer.Status.ShouldBe(200, answer.Text);
    }

    async Task<string> Send(string otherwise, string more = "")
    {
        var sent = await service.Post("/v1/notifications", service.Key, $$"""
            {"to":["user:mara"],"type":"document.ready","title":"The gearbox report needs your signature","link":"/documents/418"{{more}},
            "deadlines":[{"by":"read","within":"5m","otherwise":{{otherwise}}}]}
            """);
        sent.Status.ShouldBe(201, sent.Text);
        return (string)sent.Json!["id"]!;
    }

    async Task<List<string>> States(string id) =>
        [.. (await service.Get($"/v1/notifications/{id}", service.Key)).Json!["deadlines"]![0]!["otherwise"]!.AsArray()
            .Select(o => (string)o!["state"]!)];

    const string All =
        """[{"to":["user:ruth"],"type":"late","title":"Still unsigned"},{"webhook":"pager"},{"email":"bridge@marrowsound.example"}]""";

    [Fact]
    public async Task A_missed_deadline_notifies_calls_and_mails_once_each()
    {
        var id = await Send(All);
        (await States(id)).ShouldBe(["idle", "idle", "idle"]);
        clock.Advance(TimeSpan.FromMinutes(6));
        await Eventually.Holds(() => States(id), s => s is ["done", "done", "done"], "all three to be done");

        (await service.Titles(ruth)).ShouldBe(["Still unsigned"]);
        var call = pager.Calls.ShouldHaveSingleItem();
        call.Id.ShouldBe($"otherwise_{id}_0_1");
        call.Signature.ShouldBe("v1," + OutboundSignature.Of(new byte[32], call.Id, call.Timestamp, call.Body));
        var body = JsonNode.Parse(call.Body)!;
        ((string)body["type"]!, (string)body["data"]!["notification"]!["id"]!, (string)body["data"]!["deadline"]!["by"]!)
            .ShouldBe(("deadline.missed", id, "read"));
        var message = mail.Caught.ShouldHaveSingleItem();
        message.MessageId.ShouldBe($"otherwise_{id}_0_2@marrowsound.example");
        (message.Subject, message.To.ToString(), message.From.ToString()).ShouldBe(
            ("The gearbox report needs your signature", "bridge@marrowsound.example",
            "\"Marrow Sound Ferries\" <watch@marrowsound.example>"));
        message.TextBody!.ShouldContain("Nobody had read \u201cThe gearbox report needs your signature\u201d by ");
        message.TextBody!.ShouldContain("https://crew.marrowsound.example/documents/418");
    }

    [Fact]
    public async Task What_is_reached_in_time_does_nothing()
    {
        var id = await Send(All);
        (await service.Post("/v1/inbox/marks", mara, """{"read":{"all":true}}""")).Status.ShouldBe(200);
        clock.Advance(TimeSpan.FromMinutes(6));
        await Eventually.Holds(
            async () => (string)(await service.Get($"/v1/notifications/{id}", service.Key)).Json!["deadlines"]![0]!["state"]!,
            s => s == "met", "the deadline to be met");
        ((await States(id)).Distinct().Single(), pager.Calls.Count, mail.Caught.Count).ShouldBe(("idle", 0, 0));
    }

    [Fact]
    public async Task A_call_is_tried_again_until_it_is_taken_and_over_a_restart()
    {
        pager.Answer = _ => (503, "");
        var id = await Send("""[{"webhook":"pager"}]""");
        clock.Advance(TimeSpan.FromMinutes(6));
        await Eventually.Holds(() => pager.Calls.Count >= 1, "a first attempt");
        await Eventually.Holds(() => States(id), s => s is ["waiting"], "it to wait");
        await service.Restart();
        pager.Answer = _ => (200, "");
        clock.Advance(TimeSpan.FromMinutes(2));
        await Eventually.Holds(() => States(id), s => s is ["done"], "it to be taken");
        pager.Calls.Select(c => c.Id).Distinct().ShouldBe([$"otherwise_{id}_0_0"]);
    }

    [Fact]
    public async Task Trying_ends_as_soon_as_the_state_is_reached()
    {
        pager.Answer = _ => (503, "");
        var id = await Send("""[{"webhook":"pager"}]""");
        clock.Advance(TimeSpan.FromMinutes(6));
        await Eventually.Holds(() => pager.Calls.Count >= 1, "a first attempt");
        await Eventually.Holds(() => States(id), s => s is ["waiting"], "it to wait");
        (await service.Post("/v1/inbox/marks", mara, """{"read":{"all":true}}""")).Status.ShouldBe(200);
        // Only then is the next attempt's time known, which the clock is to pass.
        await Eventually.Holds(() => service.Count("SELECT count(*) FROM outbound WHERE attempts=0") == 0, "the first attempt to be noted");
        clock.Advance(TimeSpan.FromHours(2));
        await Eventually.Holds(() => States(id), s => s is ["ended"], "it to end");
    }

    [Fact]
    public async Task What_can_never_be_delivered_is_set_aside_and_can_be_retried()
    {
        mail.Refuses = new SmtpResponse(SmtpReplyCode.MailboxUnavailable, "no such mailbox");
        var id = await Send("""[{"email":"bridge@marrowsound.example","title":"Sign it"}]""");
        clock.Advance(TimeSpan.FromMinutes(6));
        await Eventually.Holds(() => States(id), s => s is ["set-aside"], "it to be set aside");
        var item = (await service.Get("/v1/set-aside", service.Key)).Json!["items"]!.AsArray().ShouldHaveSingleItem()!;
        ((string)item["kind"]!, (string)item["reason"]!).ShouldBe(("otherwise", "the mail server answered 550 no such mailbox"));

        mail.Refuses = null;
        var retried = await service.Post($"/v1/set-aside/{item["number"]}/retry", service.Key, "{}");
        ((bool)retried.Json!["done"]!).ShouldBeTrue(retried.Text);
        await Eventually.Holds(() => States(id), s => s is ["done"], "it to be sent");
        mail.Caught.Single().Subject.ShouldBe("Sign it");
    }

    [Fact]
    public async Task A_webhook_removed_meanwhile_sets_the_call_aside()
    {
        var id = await Send("""{"webhook":"pager"}""");
        await service.Call(HttpMethod.Delete, "/v1/webhooks/pager", service.Key);
        clock.Advance(TimeSpan.FromMinutes(6));
        await Eventually.Holds(() => States(id), s => s is ["set-aside"], "it to be set aside");
    }

    [Fact]
    public async Task The_hourly_limit_lets_further_mails_wait()
    {
        await Set("""{"mail":{"perHour":2}}""");
        var sent = new List<string>();
        for (int i = 0; i < 3; i++) sent.Add(await Send("""{"email":"bridge@marrowsound.example"}"""));
        clock.Advance(TimeSpan.FromMinutes(6));
        // Noted too, or the clock would have gone on before their time is.
        await Eventually.Holds(async () => (await Task.WhenAll(sent.Select(States))).Count(s => s is ["done"]), n => n == 2, "two mails");
        mail.Caught.Count.ShouldBe(2);
        clock.Advance(TimeSpan.FromMinutes(30));
        var later = await Send("""{"webhook":"pager"}""");
        clock.Advance(TimeSpan.FromMinutes(6));
        await Eventually.Holds(() => States(later), s => s is ["done"], "a later call to be made");
        mail.Caught.Count.ShouldBe(2);
        clock.Advance(TimeSpan.FromMinutes(25));
        await Eventually.Holds(() => mail.Caught.Count == 3, "the third after the hour");
    }

    [Theory]
    [InlineData("""{"webhook":"nobody"}""", "deadlines[0].otherwise.webhook")]
    [InlineData("""{"webhook":"pager","to":["user:ruth"]}""", "deadlines[0].otherwise.to")]
    [InlineData("""{"email":"bridge@elsewhere.example"}""", "deadlines[0].otherwise.email")]
    [InlineData("""{"email":"a@marrowsound.example, b@elsewhere.example"}""", "deadlines[0].otherwise.email")]
    [InlineData("""{"email":"a@marrowsound.example\r\nBcc: b@elsewhere.example"}""", "deadlines[0].otherwise.email")]
    [InlineData("""{"email":"a@marrowsound.example","title":"a\r\nBcc: b@elsewhere.example"}""", "deadlines[0].otherwise.title")]
    [InlineData("[]", "deadlines[0].otherwise")]
    [InlineData("""[{"to":["user:ruth"],"type":"late","title":"x","ttl":60}]""", "deadlines[0].otherwise[0]")]
    public async Task What_cannot_be_done_is_refused_by_its_field(string otherwise, string field)
    {
        var answer = await service.Post("/v1/notifications", service.Key, $$"""
            {"to":["user:mara"],"type":"t","title":"T","deadlines":[{"within":"5m","otherwise":{{otherwise}}}]}
            """);
        answer.Status.ShouldBe(422, answer.Text);
        answer.Json!["errors"]!.AsArray().Select(e => (string)e!["field"]!).ShouldContain(field);
    }

    [Fact]
    public async Task A_narrowed_key_can_call_nobody()
    {
        var made = await service.Post("/v1/keys", service.Key, """{"name":"narrow","scopes":["send"],"types":["t"]}""");
        var answer = await service.Post("/v1/notifications", (string)made.Json!["key"]!, """
            {"to":["user:mara"],"type":"t","title":"T","deadlines":[{"within":"5m","otherwise":{"webhook":"pager"}}]}
            """);
        (answer.Status, answer.Problem).ShouldBe((403, "api-key-narrowed"));
    }

    [Fact]
    public async Task Rules_fill_in_what_is_done_and_name_webhooks_that_exist()
    {
        const string rules = """
            rules:
              - name: Document
                event: document.ready
                to: ["user:{{ data.signer }}"]
                notification:
                  title: "{{ data.title }} needs your signature"
                  deadlines:
                    - within: 5m
                      otherwise:
                        - { to: ["user:ruth"], title: "{{ data.title }} is unsigned" }
                        - { webhook: PAGER }
                        - { email: "{{ data.manager }}", title: "Unsigned: {{ data.title }}", body: "<b>Please</b> look." }
            """;
        var refused = await service.Call(HttpMethod.Put, "/v1/rules", service.Key, rules.Replace("PAGER", "nobody"));
        refused.Status.ShouldBe(422);
        ((string)refused.Json!["errors"]![0]!["detail"]!).ShouldStartWith("line 11, column 26: names no webhook");
        await service.Load(rules.Replace("PAGER", "pager"));

        var injected =
            await service.Publish(Event("1", """{"signer":"mara","title":"Report","manager":"a@marrowsound.example>, <b@evil.example"}""",
            "document.ready"));
        injected.Json!["setAside"].ShouldNotBeNull();
        await service.Publish(Event("2", """{"signer":"mara","title":"Report\nBcc: x@evil.example","manager":"nils@marrowsound.example"}""",
            "document.ready", more: ",\"subject\":\"document/1\""));
        clock.Advance(TimeSpan.FromMinutes(6));
        await Eventually.Holds(() => mail.Caught.Count == 1, "the mail");
        var message = mail.Caught.Single();
        (message.Subject, message.To.ToString(), message.Bcc.Count).ShouldBe(
            ("Unsigned: Report Bcc: x@evil.example", "nils@marrowsound.example", 0));
        message.HtmlBody!.ShouldContain("&lt;b&gt;Please&lt;/b&gt; look.");
        (await service.Titles(ruth)).ShouldBe(["Report Bcc: x@evil.example is unsigned"]);
        var late = (await service.Get("/v1/inbox", ruth)).Json!["items"]![0]!;
        ((string)late["type"]!, (string)late["subject"]!).ShouldBe(("document.ready", "document/1"));
    }

    [Fact]
    public async Task A_password_is_kept_and_shown_to_nobody()
    {
        await Set("""{"mail":{"user":"rovett","password":"open sesame"}}""");
        var shown = await service.Get("/v1/settings", service.Key);
        ((bool)shown.Json!["mail"]!["hasPassword"]!, shown.Text.Contains("sesame", StringComparison.Ordinal)).ShouldBe((true, false));
        (await service.Get("/v1/audit", service.Key)).Text.ShouldNotContain("sesame");
        var wrong = await service.Call(HttpMethod.Patch, "/v1/settings", service.Key,
            """{"mail":{"host":"a b","from":"x","domains":[],"security":"ssl","colour":1}}""");
        wrong.Json!["errors"]!.AsArray().Select(e => (string)e!["field"]!).ShouldBe(
            ["mail.colour", "mail.host", "mail.from", "mail.security"], ignoreOrder: true);
    }

    [Fact]
    public async Task A_mail_server_in_a_private_network_is_only_reached_where_the_operator_allows_it()
    {
        await using var other = await ServiceUnderTest.Start(clock: clock);
        await other.Call(HttpMethod.Patch, "/v1/settings", other.Key,
            $$$"""{"mail":{"host":"localhost","port":{{{mail.Port}}},"from":"a@b.example","domains":["b.example"]}}""");
        await other.Get("/v1/totals", other.Token("mara"));
        var sent = await other.Post("/v1/notifications", other.Key,
            """{"to":["user:mara"],"type":"t","title":"T","deadlines":[{"within":"5m","otherwise":{"email":"a@b.example"}}]}""");
        clock.Advance(TimeSpan.FromMinutes(6));
        async Task<string> State() =>
            (string)(await other.Get($"/v1/notifications/{sent.Json!["id"]}", other.Key)).Json!["deadlines"]![0]!["otherwise"]![0]!["state"]!;
        await Eventually.Holds(State, s => s == "waiting", "it to wait");
        clock.Advance(TimeSpan.FromDays(4)); // long enough for the last attempt
        await Eventually.Holds(State, s => s == "set-aside", "it to be given up");
        var item = (await other.Get("/v1/set-aside", other.Key)).Json!["items"]!.AsArray().ShouldHaveSingleItem()!;
        ((string)item["reason"]!).ShouldMatch("localhost is .*, in a private or special network; .* webhookNetworks; given up after 3 days");
        mail.Caught.ShouldBeEmpty();
    }
}
