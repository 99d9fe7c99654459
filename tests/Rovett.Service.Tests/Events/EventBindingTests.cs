using System.Text;
using Rovett.Testing;
using Shouldly;
using Xunit;
using static Rovett.Service.Tests.Events.EventGround;

namespace Rovett.Service.Tests.Events;

/// <summary>CloudEvents over HTTP: binary, structured and batch mode, right and wrong.</summary>
public sealed class EventBindingTests : IAsyncLifetime
{
    const string Data = """{"priority":"high","vessel":"turnstone","check":"bow thruster"}""";

    ServiceUnderTest service = null!;

    public async ValueTask InitializeAsync()
    {
        service = await ServiceUnderTest.Start();
        await service.Load(Rules + """

              - name: Shows attributes
                event: shows
                to: ["role:engineer"]
                notification: { title: "{{ subject | default: '-' }} {{ severity | default: '-' }} {{ data.a | default: '-' }}" }
            """);
    }

    public ValueTask DisposeAsync() => service.DisposeAsync();

    Task<Answer> Binary(string? body, string? type, params (string, string)[] headers) =>
        service.Raw(HttpMethod.Post, "/v1/events", service.Key, body ?? "", type, headers);

    static (string, string)[] Ce(string id, params (string, string)[] more) =>
        [("ce-specversion", "1.0"), ("ce-id", id), ("ce-source", "/planning/1"), ("ce-type", "shows"), .. more];

    async Task<string> Title(Answer answer)
    {
        answer.Status.ShouldBe(200, answer.Text);
        answer.Json!["setAside"].ShouldBeNull(answer.Text);
        return (string)(await service.Get($"/v1/notifications/{answer.Json["notifications"]![0]!["id"]}", service.Key)).Json!["title"]!;
    }

    [Fact]
    public async Task Binary_mode_takes_attributes_from_headers_percent_encoded()
    {
        (await Title(
            await Binary("""{"a":1}""", "application/json; charset=utf-8",
            Ce("1", ("ce-subject", "Caf%C3%A9%20%22x%22"), ("ce-severity", "4")))))
            .ShouldBe("Café \"x\" 4 1");
        (await Title(await Binary(null, null, Ce("2")))).ShouldBe("- - -");
        (await Title(await Binary("a=1", "text/plain", Ce("3")))).ShouldBe("- - -");
        (await Title(await Binary("""{"a":2}""", "application/vnd.ferry+json", Ce("4")))).ShouldBe("- - 2");
        (await Title(
            await Binary("""{"a":3}""", "application/json",
            [("CE-SpecVersion", "1.0"), ("Ce-Id", "5"), ("ce-SOURCE", "/x"), ("ce-type", "shows")])))
            .ShouldBe("- - 3");
    }

    [Fact]
    public async Task Structured_mode_takes_numbers_as_texts_and_base64()
    {
        (await Title(
            await service.Publish(
            """{"specversion":"1.0","id":"1","source":"/x","type":"shows","severity":4,"subject":"s","data":{"a":true}}""")))
            .ShouldBe("s 4 true");
        var base64 = Convert.ToBase64String(Encoding.UTF8.GetBytes("""{"a":"b"}"""));
        (await Title(await service.Publish(
            $$"""{"specversion":"1.0","id":"2","source":"/x","type":"shows","datacontenttype":"application/json","data_base64":"{{base64}}"}""")))
            .ShouldBe("- - b");
        (await Title(await service.Publish($$"""{"specversion":"1.0","id":"3","source":"/x","type":"shows","data_base64":"{{base64}}"}""")))
            .ShouldBe("- - -");
        (await Title(await service.Publish(
            """{"specversion":"1.0","id":"4","source":"/x","type":"shows","datacontenttype":"text/xml","data":"<a/>","time":"2027-06-14T09:30:00.5+02:00"}""")))
            .ShouldBe("- - -");
        (await Title(await service.Publish("""{"specversion":"1.0","id":"5","source":"/x","type":"shows","severity":null,"data":null}""")))
            .ShouldBe("- - -");
    }

    [Fact]
    public async Task The_mode_does_not_make_another_event_of_it()
    {
        await Binary("""{"a":1}""", "application/json", Ce("1"));

        var again = await service.Publish(
            """{"specversion":"1.0","id":"1","source":"/planning/1","type":"shows","datacontenttype":"application/json","data":{"a":1}}""");

        ((bool)again.Json!["repeated"]!).ShouldBeTrue();
    }

    [Fact]
    public async Task Batch_mode_answers_each()
    {
        var answer = await service.Raw(HttpMethod.Post, "/v1/events", service.Key, $"[{Check("1")},{Event("2", "{}", "other")},{{}}]",
            "application/cloudevents-batch+json");

        answer.Json!["results"]!.AsArray().Select(r => r!["outcome"]?["notifications"]!.AsArray().Count ?? -1).ShouldBe([1, 0, -1]);
        (await service.Raw(HttpMethod.Post, "/v1/events", service.Key, "[]", "application/cloudevents-batch+json")).Status.ShouldBe(422);
        (await service.Raw(HttpMethod.Post, "/v1/events", service.Key, "{}", "application/cloudevents-batch+json")).Status.ShouldBe(422);
    }

    [Theory]
    [InlineData("""{"id":"1","source":"/x","type":"t"}""", 422, "specversion")]
    [InlineData("""{"specversion":"0.3","id":"1","source":"/x","type":"t"}""", 422, "specversion")]
    [InlineData("""{"specversion":"1.0","source":"/x","type":"t"}""", 422, "id")]
    [InlineData("""{"specversion":"1.0","id":"","source":"/x","type":"t"}""", 422, "id")]
    [InlineData("""{"specversion":"1.0","id":"1","type":"t"}""", 422, "source")]
    [InlineData("""{"specversion":"1.0","id":"1","source":"a b c","type":"t"}""", 422, "source")]
    [InlineData("""{"specversion":"1.0","id":"1","source":"/x"}""", 422, "type")]
    [InlineData("""{"specversion":"1.0","id":"1","source":"/x","type":"t","time":"yesterday"}""", 422, "time")]
    [InlineData("""{"specversion":"1.0","id":"1","source":"/x","type":"t","Actor":"a"}""", 422, "Actor")]
    [InlineData("""{"specversion":"1.0","id":"1","source":"/x","type":"t","my_ext":"a"}""", 422, "my_ext")]
    [InlineData("""{"specversion":"1.0","id":"1","source":"/x","type":"t","actor":{"a":1}}""", 422, "actor")]
    [InlineData("""{"specversion":"1.0","id":"1","source":"/x","type":"t","actor":"a\u0000"}""", 422, "actor")]
    [InlineData("""{"specversion":"1.0","id":"1","source":"/x","type":"t","data":{"a":"\ud800"}}""", 422, "data")]
    [InlineData("""{"specversion":"1.0","id":"1","source":"/x","type":"t","data_base64":"%%"}""", 422, "data_base64")]
    [InlineData("""{"specversion":"1.0","id":"1","source":"/x","type":"t","data":1,"data_base64":"AA=="}""", 422, "data_base64")]
    [InlineData("""{"specversion":"1.0","id":"1","source":"/x","type":"t","id":"2"}""", 400, null)]
    [InlineData("""{"specversion":"1.0","id":"1","source":"/x","type":"t","data":{"a":1,"a":2}}""", 400, null)]
    [InlineData("""{"specversion":"1.0","id":"1","source":"/x","type":"t","datacontenttype":"application/json","data_base64":"e30gfQ=="}""",
    400, null)]
    [InlineData("[]", 422, "(event)")]
    [InlineData("{", 400, null)]
    public async Task A_structured_event_at_fault_is_refused_by_name(string body, int status, string? field)
    {
        var answer = await service.Publish(body);

        (answer.Status, (string?)answer.Json!["errors"]?[0]?["field"]).ShouldBe((status, field), answer.Text);
    }

    [Theory]
    [InlineData("ce-datacontenttype", "application/json", 422, "ce-datacontenttype")]
    [InlineData("ce-my_ext", "a", 422, "my_ext")]
    [InlineData("ce-subject", "%FF%FE", 422, "ce-subject")]
    [InlineData("ce-subject", "a%0Ab", 422, "subject")]
    [InlineData("ce-time", "now", 422, "time")]
    public async Task A_binary_event_at_fault_is_refused_by_name(string header, string value, int status, string field)
    {
        var answer = await Binary("{}", "application/json", Ce("1", (header, value)));

        (answer.Status, (string?)answer.Json!["errors"]?[0]?["field"]).ShouldBe((status, field), answer.Text);
    }

    [Fact]
    public async Task Of_duplicate_attributes_none_wins()
    {
        using var client = new System.Net.Sockets.TcpClient("127.0.0.1", service.Port);
        using var stream = client.GetStream();
        await stream.WriteAsync(Encoding.ASCII.GetBytes($"POST /v1/events HTTP/1.1\r\nHost: x\r\nAuthorization: Bearer {service.Key}\r\n"
            + "ce-specversion: 1.0\r\nce-id: 1\r\nce-id: 2\r\nce-source: /x\r\nce-type: shows\r\nContent-Length: 0\r\nConnection: " +
            "close\r\n\r\n"));

        var answer = await new StreamReader(stream).ReadToEndAsync();

        answer.ShouldStartWith("HTTP/1.1 422");
        answer.ShouldContain("is there more than once; none of them wins");
    }

    [Theory]
    [InlineData("{}", "application/json")]
    [InlineData("<a/>", "application/cloudevents+xml")]
    [InlineData("[]", "application/cloudevents-batch+xml")]
    public async Task Anything_else_is_told_how_events_are_sent(string body, string type)
    {
        var answer = await service.Raw(HttpMethod.Post, "/v1/events", service.Key, body, type);

        (answer.Status, answer.Problem).ShouldBe((415, "not-an-event"));
    }

    [Fact]
    public async Task Events_are_bounded_in_size_and_number()
    {
        (await service.Publish(Event("1", $$"""{"a":"{{new string('x', 70_000)}}"}"""))).Problem.ShouldBe("event-too-large");
        (await service.PublishLines(Enumerable.Range(0, 1001).Select(i => Event($"e{i}", "{}")))).Status.ShouldBe(422);
    }
}
