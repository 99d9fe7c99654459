using Microsoft.AspNetCore.Hosting.Server;
using Microsoft.AspNetCore.Hosting.Server.Features;
using Microsoft.Extensions.Hosting;
using Rovett.Core.Ledgers;
using Rovett.Service.Audit;
using Rovett.Service.Backups;
using Rovett.Service.Cluster;
using Rovett.Service.Credentials;
using Rovett.Service.Diagnostics;
using Rovett.Service.Intakes;
using Rovett.Service.Ledgers;
using Rovett.Service.Live;
using Rovett.Service.Meters;
using Rovett.Service.Options;
using Rovett.Service.Tls;
using Rovett.Storage;
using Rovett.Storage.Access;
using Rovett.Storage.Homes;
using Rovett.Storage.Sqlite;

namespace Rovett.Service.Hosting;

/// <summary>The service: one process, one data folder or database, which it may share with other nodes.
/// Make it, start it, wait for it, dispose it.</summary>
public sealed class RovettService : IAsyncDisposable
{
    static readonly TimeSpan CloseWithin = TimeSpan.FromSeconds(4);
    const int DatabaseCallers = 12; // eight that read, and what works beside requests

    readonly WebApplication app;
    readonly RovettOptions options;
    readonly IStoreHome home;
    readonly Faults faults;
    // Requests wait until first credentials count.
    readonly TaskCompletionSource open = new(TaskCreationOptions.RunContinuationsAsynchronously);
    Nodes? nodes;
    bool disposed;

    RovettService(RovettOptions options, WebApplication app, IStoreHome home)
    {
        (this.options, this.app, this.home, faults) = (options, app, home, app.Services.GetRequiredService<Faults>());
        app.MapEverything(options, open.Task);
        app.Services.StartRounds();
        home.Lost = why =>
        {
            Failure = why;
            Log.LogCritical("The service stops: {Why}", why.Message);
            app.Lifetime.StopApplication();
        };
        var access = app.Services.GetRequiredService<AccessStore>();
        ConsoleLink = access.HasOperators ? null : NewConsoleLink();
        // The server would wait for them.
        app.Lifetime.ApplicationStopping.Register(() => app.Services.GetService<RevocationGate>()?.Close());
        app.Lifetime.ApplicationStopping.Register(() =>
            app.Services.GetRequiredService<IntakeList>().Stop(CloseWithin).GetAwaiter().GetResult());
        app.Lifetime.ApplicationStopping.Register(() =>
            app.Services.GetRequiredService<SessionRegistry>().Close(options.ComeBackWithinMs, CloseWithin).GetAwaiter().GetResult());
        // First of all: what is registered last is called first.
        app.Lifetime.ApplicationStopping.Register(() =>
        {
            app.Services.GetRequiredService<Supervisor>().Stopping();
            if (open.Task.IsCompleted) Log.LogInformation("The service stops: sessions are told, what waits is written");
        });
        app.Lifetime.ApplicationStopping.Register(() => nodes?.Leave().GetAwaiter().GetResult());
    }

    /// <summary>Opens the data folder, or the database, and prepares everything, without listening yet.</summary>
    /// <exception cref="StoreException">It can't be used, or another process uses it.</exception>
    public static RovettService Create(RovettOptions options, TimeProvider? clock = null, FaultSwitches? faults = null)
    {
        var node = options.NodeUrl is null ? null : new NodeIdentity(options.NodeUrl, options.ClusterSecretFile!);
        IStoreHome home = options.Database is { } database ? new PostgresHome(database, node?.Incarnation)
            : new DataFolder(options.Data, options.Backups is { } to ? () => new BackupFolder(to).Make(options.Data,
            (clock ?? TimeProvider.System).GetUtcNow(), isBeforeUpgrade: true) : null);
        if (options.Database is not null) KeepThreadsFor(DatabaseCallers);
        WebApplication? app = null;
        try
        {
            var builder = WebApplication.CreateSlimBuilder(new WebApplicationOptions { ContentRootPath = AppContext.BaseDirectory });
            builder.ConfigureServer(options);
            builder.Services.AddRovett(options, home, new ServiceClock(clock ?? new BootClock()), faults, node);
            app = builder.Build();
            return new RovettService(options, app, home);
        }
        catch
        {
            app?.DisposeAsync().AsTask().GetAwaiter().GetResult();
            home.Dispose();
            throw;
        }
    }

    ILogger Log => app.Services.GetRequiredService<ILogger<RovettService>>();

    /// <summary>Whoever asks a database holds a thread of the pool until it answers. The pool adds threads slowly, half a second each, and
    /// everything else would wait for them.</summary>
    static void KeepThreadsFor(int callers)
    {
        ThreadPool.GetMinThreads(out int workers, out int ports);
        ThreadPool.SetMinThreads(Math.Max(workers, Environment.ProcessorCount + callers), ports);
    }

    /// <summary>Where it listens, once started: <c>http://127.0.0.1:7411</c>.</summary>
    public string Url { get; private set; } = "";

    /// <summary>Where its metrics are read; null: nowhere.</summary>
    public string? MetricsUrl { get; private set; }

    /// <summary>Where it stores everything, as people know it.</summary>
    public string Store => home.Name;

    /// <summary>Credentials created by this start, to be shown once.</summary>
    public IReadOnlyList<FirstCredentials> Credentials => app.Services.GetRequiredService<FirstStart>().Credentials;

    /// <summary>The one-time sign-up secret, when nobody can sign in to the console yet.</summary>
    public string? ConsoleLink { get; }

    /// <summary>Makes another one-time sign-up secret.</summary>
    public string NewConsoleLink() => app.Services.GetRequiredService<Operators>().MakeLink("operate");

    /// <summary>How many sessions this process holds of spaces that other nodes serve.</summary>
    public int HeldForOthers => app.Services.GetService<LinkPool>()?.Held ?? 0;

    /// <summary>Its meters.</summary>
    public ServiceMeters Meters => app.Services.GetRequiredService<ServiceMeters>();

    /// <summary>What it has taken for bugs, and where they were; after its end as well.</summary>
    public IReadOnlyList<Fault> Bugs => faults.All;

    /// <summary>Its backups.</summary>
    public BackupRounds Backups => app.Services.GetRequiredService<BackupRounds>();

    /// <summary>The API keys.</summary>
    public ApiKeys Keys => app.Services.GetRequiredService<ApiKeys>();

    /// <summary>Listens; writes the ready file, announces, and only then lets first credentials count, so that nobody
    /// is ever left without them.</summary>
    /// <param name="announce">Shows <see cref="Url"/> and <see cref="Credentials"/>; null: nobody looks.</param>
    /// <exception cref="IOException">The port is taken or may not be used, or the ready file can't be written.</exception>
    public async Task Start(Action? announce = null)
    {
        await app.StartAsync();
        var addresses = app.Services.GetRequiredService<IServer>().Features.Get<IServerAddressesFeature>()!.Addresses;
        Url = addresses.First();
        MetricsUrl = options.MetricsEndPoint is null ? null : addresses.Last() + "/metrics";
        // The file appears once what it says counts; should the process die between, its first form beside it has the credentials.
        var ready = options.ReadyFile is { } file ? ReadyFile.WriteAside(file, Url, MetricsUrl, ConsoleLink, Credentials) : null;
        if (options.CredentialsFile is { } kept && Credentials.Count > 0)
        {
            var aside = ReadyFile.WriteAside(kept, Url, MetricsUrl, ConsoleLink, Credentials);
            File.Move(aside, kept, overwrite: true);
        }
        announce?.Invoke();
        var keeper = app.Services.GetRequiredService<SpaceKeeper>();
        foreach (var made in Credentials) keeper.Keep(made);
        home.EndFirstTurn();
        nodes = app.Services.GetService<Nodes>(); // it joins the others now that they can reach it
        if (nodes is not null) app.Services.GetRequiredService<LiveServices>().Sides = app.Services.GetRequiredService<SessionSides>();
        open.SetResult();
        app.Services.GetRequiredService<Supervisor>().Ready();
        Log.LogInformation("Rovett {Version} serves at {Url}, with what is stored in {Store}", ServiceInfo.Version, Url, Store);
        if (ready is not null) File.Move(ready, options.ReadyFile!, overwrite: true);
    }

    /// <summary>Takes up, from settings that were read anew, what can change while it runs; the rest is told to need a restart.</summary>
    /// <param name="others">Settings that hold.</param>
    /// <returns>What differs.</returns>
    public IReadOnlyList<OptionChange> TakeUp(RovettOptions others)
    {
        var changes = options.TakeUp(others);
        foreach (var (name, before, after, isTakenUp) in changes)
        {
            if (isTakenUp) Log.LogInformation("The setting {Name} is '{After}' from now on; it was '{Before}'", name, after, before);
            else Log.LogWarning("The setting {Name} was changed, which the next start takes up: restart the service", name);
        }
        if (changes.Count == 0) Log.LogInformation("The settings were read again; none has changed");
        var taken = changes.Where(c => c.IsTakenUp).ToList();
        if (taken.Count > 0)
        {
            app.Services.GetRequiredService<AuditTrail>().Note("main", "service", "settings.taken-up", "", json =>
            {
                foreach (var (name, before, after, _) in taken)
                {
                    json.WriteStartObject(name);
                    json.WriteString("before", before);
                    json.WriteString("after", after);
                    json.WriteEndObject();
                }
            });
        }
        return changes;
    }

    /// <summary>Logs that settings which were read again are invalid: nothing changes.</summary>
    public void Refuse(IEnumerable<string> mistakes)
    {
        foreach (var mistake in mistakes) Log.LogError("The settings were read again and are invalid; nothing was changed: {Mistake}",
            mistake);
    }

    /// <summary>Why it stopped by itself; null: it did not.</summary>
    public Exception? Failure { get; private set; }

    /// <summary>Returns once the service was asked to stop (SIGTERM, Ctrl-C) and has stopped, or has stopped by itself.</summary>
    public Task WaitForStop() => HostingAbstractionsHostExtensions.WaitForShutdownAsync(app);

    /// <summary>Writes a file that only its owner may read; aside and then moved, so that a script never reads half of it.</summary>
    public static void WriteSecretFile(string file, byte[] bytes) => ReadyFile.WriteSecret(file, bytes);

    /// <summary>Stops: sessions hear <c>ending</c>, pending data is written.</summary>
    public async ValueTask DisposeAsync()
    {
        if (Interlocked.Exchange(ref disposed, true)) return;
        await app.StopAsync();
        await app.Services.GetRequiredService<AccessNews>().DisposeAsync(); // tells nobody who is disposed of
        await app.DisposeAsync();
        home.Dispose();
    }
}
