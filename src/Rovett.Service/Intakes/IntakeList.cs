using Rovett.Core.Ledgers.Commands.Events;
using Rovett.Service.Events;
using Rovett.Service.Spaces;

namespace Rovett.Service.Intakes;

/// <summary>Every intake of the service.</summary>
public sealed class IntakeList(IReadOnlyList<IntakeSettings> settings, SpaceDirectory spaces, InletServices services)
    : IAsyncDisposable
{
    static readonly TimeSpan Settled = TimeSpan.FromMinutes(1);

    readonly IReadOnlyList<Intake> all = [.. settings.Select(s => new Intake(s, spaces, services))];
    readonly DateTimeOffset began = services.Clock.GetUtcNow();

    /// <summary>All of them.</summary>
    public IReadOnlyList<Intake> All => all;

    /// <summary>Those of a space, in the order of the file.</summary>
    public IEnumerable<Intake> Of(SpaceRuntime space) => all.Where(i => i.Settings.Space == space.Name);

    /// <summary>One of a space, or null.</summary>
    public Intake? Find(SpaceRuntime space, string name) => Of(space).FirstOrDefault(i => i.Settings.Name == name);

    /// <summary>Starts all.</summary>
    public void Start()
    {
        foreach (var intake in all) intake.Start();
    }

    /// <summary>Another node serves a space from now on.</summary>
    public void LetGo(string space)
    {
        foreach (var intake in all)
        {
            if (intake.Settings.Space == space) intake.LetGo();
        }
    }

    /// <summary>Has all finish what they have begun, and stop.</summary>
    public Task Stop(TimeSpan within) => Task.WhenAll(all.Select(i => i.Stop(within)));

    /// <summary>How much longer than usual repeats must be recognised: a source that was not told yet may hand over again what it handed
    /// over long ago.</summary>
    /// <returns>Null: for as long as it takes, because a source was not reached since the start.</returns>
    public TimeSpan? RepeatsLonger(string space)
    {
        var longer = TimeSpan.Zero;
        var now = services.Clock.GetUtcNow();
        foreach (var intake in all)
        {
            if (intake.Settings.Space != space || !intake.Settings.Kind.NeedsRepeats) continue;
            var reading = intake.Progress.Read();
            if (reading.LastTold is not { } told || now - began < Settled) return null;
            if (reading.State != IntakeState.Running && now - told > longer) longer = now - told;
        }
        return longer;
    }

    /// <summary>Retries something that was set aside by an intake.</summary>
    /// <param name="space">The space.</param>
    /// <param name="intake">The intake's name; it need not exist any more. Null: the event is an operator's, in the JSON format.</param>
    /// <param name="number">The number that it is set aside under.</param>
    /// <param name="raw">It, or what is to be taken in its place.</param>
    internal Task<RetryResult?> Retry(SpaceRuntime space, string? intake, long number, RawEvent raw) =>
        Inlet.Retry(space, intake is null ? null : Find(space, intake)?.Settings, services, number, raw);

    /// <inheritdoc/>
    public async ValueTask DisposeAsync() => await Stop(TimeSpan.FromSeconds(1));
}
