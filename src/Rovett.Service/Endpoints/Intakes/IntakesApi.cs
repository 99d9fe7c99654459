using Rovett.Core.Ledgers.Commands.Intakes;
using Rovett.Service.Audit;
using Rovett.Service.Credentials;
using Rovett.Service.Intakes;
using Rovett.Service.Ledgers;
using Rovett.Service.Spaces;

namespace Rovett.Service.Endpoints.Intakes;

/// <summary>Intakes: the sources that events are taken from, beside the requests of backends.</summary>
public sealed class IntakesApi(IntakeList intakes, LedgerPump ledger, AuditTrail audit)
{
    /// <summary>Lists intakes.</summary>
    /// <remarks>They are configured in a file of the service (<c>--intakes</c>): docs/intakes.md.</remarks>
    public Task<IntakeListAnswer> ListIntakes(HttpContext context) => Task.FromResult(new IntakeListAnswer
    {
        Intakes = [.. intakes.Of(context.KeyCaller().Space).Select(i => Answer(i))],
    });

    /// <summary>Shows an intake.</summary>
    public async Task<IntakeAnswer> ShowIntake(HttpContext context)
    {
        var (space, _, intake) = Find(context);
        var stored = await ledger.Ask(new FindIntakeCommand(space.Name, intake.Settings.Name));
        return Answer(intake) with
        {
            Places = [.. stored.Positions.Select(p => new IntakePlaceAnswer { Part = p.Part, Place = p.Value })],
        };
    }

    /// <summary>Pauses an intake.</summary>
    /// <remarks>It finishes what it has begun, and takes nothing more until it is resumed, across restarts.</remarks>
    public Task<IntakeAnswer> PauseIntake(HttpContext context) => Turn(context, isPaused: true);

    /// <summary>Resumes an intake.</summary>
    public Task<IntakeAnswer> ResumeIntake(HttpContext context) => Turn(context, isPaused: false);

    async Task<IntakeAnswer> Turn(HttpContext context, bool isPaused)
    {
        var (space, key, intake) = Find(context);
        await intake.Pause(space, isPaused);
        audit.Note(space.Name, key.Actor, isPaused ? "intake.paused" : "intake.resumed", intake.Settings.Name);
        return Answer(intake);
    }

    /// <summary>Tests an intake.</summary>
    /// <remarks>Connects to its source beside the connection that it has, looks whether it can be used, and takes nothing.</remarks>
    public async Task<IntakeTestAnswer> TestIntake(HttpContext context)
    {
        var (space, _, intake) = Find(context);
        try
        {
            return new IntakeTestAnswer { Works = true, Found = await intake.Test(space, context.RequestAborted) };
        }
        catch (IntakeFailure failure)
        {
            return new IntakeTestAnswer { Works = false, Found = [], Reason = failure.Message };
        }
    }

    (SpaceRuntime Space, ApiKey Key, Intake Intake) Find(HttpContext context)
    {
        var (space, key) = context.KeyCaller();
        var name = (string)context.Request.RouteValues["name"]!;
        return (space, key, intakes.Find(space, name) ?? throw new Problem(404, "unknown-intake", "No such intake",
            $"No intake of this space is called '{name}'.", "List them: GET /v1/intakes. They are in the file of --intakes.")
            .ToException());
    }

    static IntakeAnswer Answer(Intake intake)
    {
        var (settings, now) = (intake.Settings, intake.Progress.Read());
        return new IntakeAnswer
        {
            Name = settings.Name,
            Kind = settings.Kind.Word,
            From = settings.Kind.From,
            State = now.State.ToString().ToLowerInvariant(),
            Since = StoredTime.From(now.Since),
            Reason = now.Reason,
            Events = now.Events,
            Repeated = now.Repeated,
            Unmatched = now.Unmatched,
            Notifications = now.Notifications,
            SetAside = now.SetAside,
            Dropped = now.Dropped,
            LastReason = now.LastReason,
            LastTaken = now.LastTaken is { } taken ? StoredTime.From(taken) : null,
            PerSecond = now.PerSecond,
            LagMs = now.Lag is { } lag ? (long)lag.TotalMilliseconds : null,
            Behind = now.Behind,
            Lost = now.Lost,
            Types = settings.Types,
            Sources = settings.Sources,
        };
    }
}
