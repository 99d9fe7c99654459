using Rovett.Core.Ledgers.Commands.Intakes;
using Rovett.Service.Diagnostics;
using Rovett.Service.Ledgers;
using Rovett.Service.Spaces;

namespace Rovett.Service.Intakes;

/// <summary>One intake: it starts, runs, drains, stops. While its source can't be used it keeps trying, after growing pauses, and
/// says why.</summary>
public sealed class Intake
{
    static readonly TimeSpan FirstPause = TimeSpan.FromMilliseconds(250), LongestPause = TimeSpan.FromSeconds(30),
        SoundAfter = TimeSpan.FromSeconds(10), LookForSpace = TimeSpan.FromSeconds(1), TestWithin = TimeSpan.FromSeconds(10);

    readonly SpaceDirectory spaces;
    readonly InletServices services;
    readonly CancellationTokenSource stop = new();
    readonly Lock gate = new();
    CancellationTokenSource drain = new();
    TaskCompletionSource resumed = Done();
    Task running = Task.CompletedTask;
    bool isDecided; // whether it is paused is known: as stored, or as somebody said since

    /// <summary>Creates it without starting it.</summary>
    public Intake(IntakeSettings settings, SpaceDirectory spaces, InletServices services)
    {
        (Settings, this.spaces, this.services) = (settings, spaces, services);
        Progress = new IntakeProgress(services.Clock);
    }

    static TaskCompletionSource Done()
    {
        var done = NotYet();
        done.SetResult();
        return done;
    }

    static TaskCompletionSource NotYet() => new(TaskCreationOptions.RunContinuationsAsynchronously);

    /// <summary>Its settings.</summary>
    public IntakeSettings Settings { get; }

    /// <summary>How it does.</summary>
    public IntakeProgress Progress { get; }

    SpaceRuntime? Space => spaces.Find(Settings.Space);

    /// <summary>Starts it.</summary>
    public void Start() => running = Task.Run(Run);

    async Task Run()
    {
        var pause = new GrowingPause(FirstPause, LongestPause);
        while (!stop.IsCancellationRequested)
        {
            long began = services.Clock.GetTimestamp();
            try
            {
                if (Space is not { IsHere: true } space)
                {
                    if (Space is null) Progress.Is(IntakeState.Waiting, $"the space '{Settings.Space}' does not exist");
                    else Progress.Is(IntakeState.Stopped, "another node serves its space");
                    await Task.Delay(LookForSpace, services.Clock, stop.Token);
                    continue;
                }
                if (!isDecided) await Recall(space);
                await Gate();
                if (await Once(space)) return;
            }
            catch (OperationCanceledException) when (stop.IsCancellationRequested)
            {
                break;
            }
            catch (Exception error)
            {
                if (services.Clock.GetElapsedTime(began) > SoundAfter) pause.Reset();
                await Wait(error, pause.Next());
            }
        }
        Progress.Is(IntakeState.Stopped);
    }

    /// <summary>Whether it was paused before the service started.</summary>
    async Task Recall(SpaceRuntime space)
    {
        var stored = await services.Ledger.Ask(new FindIntakeCommand(space.Name, Settings.Name));
        lock (gate)
        {
            if (!isDecided) Turn(stored.IsPaused);
        }
    }

    async Task Gate()
    {
        Task go;
        lock (gate) go = resumed.Task;
        if (go.IsCompleted) return;
        Progress.Is(IntakeState.Paused);
        await go.WaitAsync(stop.Token);
    }

    /// <summary>One connection to the source.</summary>
    /// <returns>True when the source has come to its end.</returns>
    async Task<bool> Once(SpaceRuntime space)
    {
        CancellationToken until;
        lock (gate)
        {
            if (stop.IsCancellationRequested || !resumed.Task.IsCompleted || !space.IsHere) return false;
            if (drain.IsCancellationRequested) drain = new CancellationTokenSource();
            until = drain.Token;
        }
        if (Progress.Read().State != IntakeState.Waiting) Progress.Is(IntakeState.Starting); // it waits until it runs again
        var source = Settings.Kind.Open(new Inlet(space, Settings, Progress, services, until));
        await using (source)
        {
            try
            {
                await source.Run(until);
                if (until.IsCancellationRequested) return false;
                Progress.Is(IntakeState.Ended);
                return true;
            }
            catch (OperationCanceledException) when (until.IsCancellationRequested)
            {
                return false;
            }
            catch (Exception error) when (error is IntakeFailure || source.IsFailure(error))
            {
                throw error as IntakeFailure ?? new IntakeFailure(Sentence(error.Message), error);
            }
        }
    }

    async Task Wait(Exception error, TimeSpan pause)
    {
        bool isBug = error is not (IntakeFailure or ProblemException) && !LedgerPump.IsStoreFailure(error);
        if (isBug) services.Faults.Bug(Settings.Space, $"intake {Settings.Name}", error);
        var reason = isBug ? "a bug, see the service's log" : error.Message;
        if (Progress.Read() is not { State: IntakeState.Waiting } before || before.Reason != reason)
        {
            services.Log.LogWarning("The intake {Intake} of the space {Space} waits: {Reason}. It tries again by itself", Settings.Name,
                Settings.Space, reason.TrimEnd('.'));
        }
        Progress.Is(IntakeState.Waiting, reason);
        try
        {
            await Task.Delay(pause, services.Clock, stop.Token);
        }
        catch (OperationCanceledException)
        {
            // The loop ends.
        }
    }

    static string Sentence(string message) => message.Split('\n')[0].Trim().TrimEnd('.');

    /// <summary>Pauses or resumes it; the choice survives restarts. The current batch is finished first.</summary>
    public async Task Pause(SpaceRuntime space, bool isPaused)
    {
        await services.Ledger.Ask(new PauseIntakeCommand(space.Name, Settings.Name, isPaused));
        lock (gate) Turn(isPaused);
    }

    /// <summary>Another node serves its space from now on: it stops here once its current batch is finished, and begins again when the
    /// space comes back.</summary>
    public void LetGo()
    {
        lock (gate)
        {
            isDecided = false; // whether it is paused may be said elsewhere
            resumed.TrySetResult();
            drain.Cancel();
        }
    }

    void Turn(bool isPaused)
    {
        isDecided = true;
        if (!isPaused) resumed.TrySetResult();
        else
        {
            if (resumed.Task.IsCompleted) resumed = NotYet();
            drain.Cancel();
        }
    }

    /// <summary>Checks that its source can be used, without taking anything.</summary>
    /// <exception cref="IntakeFailure">It can't.</exception>
    public async Task<IReadOnlyList<string>> Test(SpaceRuntime space, CancellationToken stopped)
    {
        using var limit = CancellationTokenSource.CreateLinkedTokenSource(stopped);
        limit.CancelAfter(TestWithin);
        var source = Settings.Kind.Open(new Inlet(space, Settings, new IntakeProgress(services.Clock), services, limit.Token));
        await using (source)
        {
            try
            {
                return await source.Test(limit.Token);
            }
            catch (OperationCanceledException) when (!stopped.IsCancellationRequested)
            {
                throw new IntakeFailure($"no answer within {TestWithin.TotalSeconds:0} s");
            }
            catch (Exception error) when (source.IsFailure(error))
            {
                throw new IntakeFailure(Sentence(error.Message), error);
            }
        }
    }

    /// <summary>Stops it once its current batch is finished.</summary>
    /// <param name="within">Whatever is unfinished by then is taken again later.</param>
    public async Task Stop(TimeSpan within)
    {
        lock (gate)
        {
            stop.Cancel();
            drain.Cancel();
        }
        await Task.WhenAny(running, Task.Delay(within));
    }
}
