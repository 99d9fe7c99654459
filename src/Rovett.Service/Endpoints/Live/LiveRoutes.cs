using System.Text.Json;
using Rovett.Service.Http;

namespace Rovett.Service.Endpoints.Live;

/// <summary>Live connections: WebSocket, server-sent events and long poll. The endpoint looks at credentials itself,
/// because a WebSocket may show its token in its first message; and what goes through it is written by hand, because every
/// notification does.</summary>
static class LiveRoutes
{
    public static IServiceCollection AddLiveEndpoints(this IServiceCollection services) => services
        .AddRecords(LiveJson.Default).AddSingleton<LiveEndpoint>();

    public static void MapLive(this IEndpointRouteBuilder routes)
    {
        var live = routes.ServiceProvider.GetRequiredService<LiveEndpoint>();
        const string says = "The session, from the message 'opened'.", example = "7Jx2mQ0bV4k9dKx2Qp0aZ4";
        var group = routes.MapGroup("").WithTags("Live");
        group.ByHand("GET", "/v1/live", live.Connect, also: "CONNECT").Named("openSession").WithToken().Answers(200, 101, 204)
            .AnswersWith(typeof(JsonElement), "application/json", "Long poll: the first messages, as an array.")
            .AnswersWith(null, "text/event-stream", "Server-sent events: one event a message.")
            .TakesHeader("Last-Event-ID", "The cursor of the last event; before 'after'.", "9dKx2Qp0mZ47a5PVrzA4WJ")
            .Refuses(400, "not-upgradable", "websocket-key").Refuses(401, "token-missing", "token-expired", "ticket-unknown", "ticket-used")
            .Refuses(403, "origin-refused", "user-blocked").Refuses(406, "no-transport").Refuses(422, "malformed-cursor")
            .Refuses(426, "websocket-version").Refuses(429, "too-many-sessions")
            .Refuses(503, "shutting-down", "too-many-unauthenticated", "store-unavailable").Query = typeof(LiveQuery);
        group.ByHand("GET", "/v1/live/{session}", live.Poll).Named("pollSession").WithToken().Answers(200)
            .WithPath("session", says, example)
            .AnswersWith(typeof(JsonElement), "application/json", "The messages, as an array.")
            .TakesHeader("Prefer", "How long to wait for messages, in seconds (RFC 7240).", "wait=25")
            .AnswersHeader("Preference-Applied", "How long was waited at most.", "wait=25")
            .Refuses(401, "token-missing").Refuses(403, "token-of-another-user").Refuses(404, "unknown-session")
            .Refuses(409, "not-polled", "poll-out-of-turn", "poll-superseded").Query = typeof(PollQuery);
        group.ByHand("POST", "/v1/live/{session}", live.Post).Named("postMessages").WithToken().WithPath("session", says, example)
            .Answers(200, 204, 422)
            .Takes<JsonElement>("application/json", "A message, or an array of up to 100.")
            .AnswersWith(typeof(JsonElement), "application/json", "The answers to messages with a requestId, as an array.")
            .Refuses(401, "token-missing").Refuses(403, "token-of-another-user").Refuses(404, "unknown-session")
            .Refuses(429, "too-many-messages");
    }
}
