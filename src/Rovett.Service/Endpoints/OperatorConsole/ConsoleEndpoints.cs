using Rovett.Core.Wire.Sse;
using Rovett.Service.Credentials;
using Rovett.Service.Http;
using Rovett.Service.Ledgers;
using Rovett.Service.Limits;
using Rovett.Service.Live;
using Rovett.Service.Spaces;
using Rovett.Storage.Access;

namespace Rovett.Service.Endpoints.OperatorConsole;

/// <summary>What the operators' console calls: signing up by the one-time link, signing in, and the live view. All but
/// the sign-in needs the session cookie; whatever changes something needs the header that only our own page sends.</summary>
public sealed class ConsoleEndpoints(AccessStore access, Operators operators, SpaceDirectory spaces, ActivityMonitor monitor,
    SessionRegistry sessions, TimeProvider clock)
{
    /// <summary>Shows who is signed in.</summary>
    public Task<MeAnswer> ShowMe(HttpContext context)
    {
        var who = operators.Of(context);
        if (who is not null) operators.Extend(context);
        return Task.FromResult(new MeAnswer
        {
            Operator = who?.Name,
            May = who?.May,
            AnyOperator = access.HasOperators,
            Spaces = who is null ? [] : [.. spaces.All.OrderBy(s => s.Id).Select(s => s.Name)],
        });
    }

    /// <summary>Signs an operator up by a one-time link.</summary>
    public async Task<NoAnswer> SignUp(HttpContext context, Given<SignInRequest> body)
    {
        Operators.OwnPageOnly(context);
        var given = Read(body);
        await operators.SignUp(context, given.Name!, given.Password!, given.Link);
        return default;
    }

    /// <summary>Signs an operator in.</summary>
    public async Task<NoAnswer> SignIn(HttpContext context, Given<SignInRequest> body)
    {
        Operators.OwnPageOnly(context);
        var given = Read(body);
        await operators.SignIn(context, given.Name!, given.Password!);
        return default;
    }

    /// <summary>Signs an operator out.</summary>
    public Task<NoAnswer> SignOutOperator(HttpContext context)
    {
        Operators.OwnPageOnly(context);
        operators.SignOut(context);
        return NoAnswer.To(context);
    }

    static SignInRequest Read(Given<SignInRequest> body)
    {
        body.Missing("name", "must be 1 to 128 characters");
        body.Missing("password", "must be 1 to 128 characters");
        return body.Sound();
    }

    /// <summary>Streams the whole view whenever it changed, at most four times a second.</summary>
    public async Task Live(HttpContext context)
    {
        var space = SpaceOf(spaces, context);
        Connections.IsStream(context);
        context.Response.ContentType = "text/event-stream";
        context.Response.Headers.CacheControl = "no-cache";
        context.Response.Headers["X-Accel-Buffering"] = "no";
        using var timer = new PeriodicTimer(TimeSpan.FromMilliseconds(250), clock);
        byte[] last = [];
        int quiet = 0;
        try
        {
            do
            {
                if (operators.Of(context) is null) return; // signed out, or no longer an operator
                var now = View(space) ?? last;
                if (!now.AsSpan().SequenceEqual(last))
                {
                    await context.Response.BodyWriter.WriteAsync(SseWriter.Event("view", null, last = now), context.RequestAborted);
                }
                else if (++quiet % 20 == 0) await context.Response.BodyWriter.WriteAsync(":\n\n"u8.ToArray(), context.RequestAborted);
            }
            while (!sessions.Closing && !space.IsRemoved && await timer.WaitForNextTickAsync(context.RequestAborted));
        }
        catch (OperationCanceledException)
        {
        }
    }

    /// <summary>The view now; null while the store can't be read, which the service's health tells.</summary>
    byte[]? View(SpaceRuntime space)
    {
        try
        {
            return monitor.Snapshot(space, sessions);
        }
        catch (Exception error) when (LedgerPump.IsStoreFailure(error))
        {
            return null;
        }
    }

    internal static SpaceRuntime SpaceOf(SpaceDirectory spaces, HttpContext context) =>
        spaces.Find(context.Request.Query["space"].ToString() is { Length: > 0 } name ? name : "main")
        ?? throw new Problem(404, "unknown-space", "No such space", "No space has this name.", "Choose another.").ToException();
}
