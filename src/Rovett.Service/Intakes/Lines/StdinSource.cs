using System.IO.Pipelines;

namespace Rovett.Service.Intakes.Lines;

/// <summary>Takes the lines of the service's standard input, to its end.</summary>
sealed class StdinSource(Inlet inlet, LineSettings lines) : IIntakeSource
{
    // One process has one standard input, and what a reader has buffered of it must not be lost with a pause.
    static readonly Lazy<PipeReader> Input = new(() => PipeReader.Create(Console.OpenStandardInput()));

    readonly LineRate rate = new(lines.PerSecond, inlet.Clock);

    public async Task Run(CancellationToken drain)
    {
        inlet.Progress.Is(IntakeState.Running);
        var reader = new LineStream(Input.Value, lines.MaxLine);
        while (await Next(reader, drain) is { Count: > 0 } found)
        {
            await rate.Wait(found.Count, drain);
            var now = inlet.Clock.GetUtcNow();
            await inlet.Take([.. found.Select(l => LineItems.Of(l, lines.MaxLine, now))]);
        }
        drain.ThrowIfCancellationRequested();
    }

    async Task<List<Line>> Next(LineStream reader, CancellationToken drain)
    {
        using var cancelled = drain.Register(() => Input.Value.CancelPendingRead());
        return await reader.Next(inlet.Settings.Batch, drain);
    }

    public Task<IReadOnlyList<string>> Test(CancellationToken stop) =>
        Task.FromResult<IReadOnlyList<string>>(["it reads the standard input of the service"]);

    public bool IsFailure(Exception error) => error is IOException;

    public ValueTask DisposeAsync() => default;
}
