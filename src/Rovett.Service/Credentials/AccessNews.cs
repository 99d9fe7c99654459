using Rovett.Service.Diagnostics;
using Rovett.Storage.Access;
using Rovett.Storage.Sql;

namespace Rovett.Service.Credentials;

/// <summary>Tells those who keep something in memory that it may have been changed, by this process or one that shares the database.
/// What this process changes itself has taken effect here before its answer; for the others this is how they hear of it.</summary>
public sealed class AccessNews(IAccessWatch? watch, Faults faults) : IAsyncDisposable
{
    readonly List<(string Kind, Func<string?, Task> Changed)> followers = [];

    /// <summary>Registers a handler for changes of one kind. Handlers are called in the order of registration.</summary>
    /// <param name="kind">One of <see cref="AccessKinds"/>.</param>
    /// <param name="changed">Takes the space; null: any. If the store fails it, it is called again after a second.</param>
    public void On(string kind, Func<string?, Task> changed) => followers.Add((kind, changed));

    /// <summary>Registers a handler for changes of one kind.</summary>
    public void On(string kind, Action<string?> changed) => On(kind, space =>
    {
        changed(space);
        return Task.CompletedTask;
    });

    /// <summary>Begins to tell.</summary>
    public void Start() => watch?.Follow(Tell, error => faults.Thrown(null, nameof(AccessNews), error));

    /// <summary>Returns once all that other processes changed until now was told.</summary>
    public Task CatchUp() => watch?.CatchUp() ?? Task.CompletedTask;

    async Task Tell(IReadOnlyList<AccessChange> changes)
    {
        foreach (var (kind, changed) in followers)
        {
            foreach (var change in changes)
            {
                if (change.Kind is not null && change.Kind != kind) continue;
                string? space = change.Space.Length == 0 ? null : change.Space;
                try
                {
                    await changed(space);
                }
                catch (Exception error) when (!StoreFailures.Is(error))
                {
                    faults.Bug(space, nameof(AccessNews), error); // the others are told all the same
                }
            }
        }
    }

    /// <inheritdoc/>
    public async ValueTask DisposeAsync()
    {
        if (watch is not null) await watch.DisposeAsync();
    }
}
