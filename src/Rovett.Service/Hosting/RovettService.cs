using System.Globalization;
using System.Net;
using System.Net.Security;
using System.Text.Json;
using Microsoft.AspNetCore.Hosting;
using Microsoft.AspNetCore.Hosting.Server;
using Microsoft.AspNetCore.Hosting.Server.Features;
using Microsoft.Extensions.FileProviders;
using Rovett.Core.Delivery;
using Rovett.Core.Ledgers;
using Rovett.Core.Ledgers.Commands.Sessions;
using Rovett.Core.Ledgers.Commands.Spaces;
using Rovett.Core.Visibility;
using Rovett.Service.Audit;
using Rovett.Service.Credentials;
using Rovett.Service.Diagnostics;
using Rovett.Service.Endpoints.Admin;
using Rovett.Service.Endpoints.Backend;
using Rovett.Service.Endpoints.Live;
using Rovett.Service.Endpoints.OperatorConsole;
using Rovett.Service.Endpoints.User;
using Rovett.Service.Http;
using Rovett.Service.Ledgers;
using Rovett.Service.Limits;
using Rovett.Service.Live;
using Rovett.Service.Options;
using Rovett.Service.Outbound;
using Rovett.Service.Receipts;
using Rovett.Service.Spaces;
using Rovett.Service.Tls;
using Rovett.Service.Topics;
using Rovett.Storage;
using Rovett.Storage.Sql;
using Rovett.Storage.Sqlite;
using Serilog;
using Serilog.Events;

namespace Rovett.Service.Hosting;

/// <summary>The service: one process, one data folder. Make it, start it, wait for it, dispose it.</summary>
public sealed class RovettService : IAsyncDisposable
{
    readonly WebApplication app;
    readonly SqlLedgerStore store;
    readonly SqlHistory history;
    readonly AccessStore access;
    readonly LedgerPump pump;
    readonly MarkSteps marks;
    readonly Connections connections;
    readonly AckBuffer acks;
    readonly Housekeeping housekeeping;
    readonly SessionRegistry sessions;
    readonly WebhookSender webhooks;
    readonly KeySets keySets;
    readonly TicketStore ticketStore;
    readonly Tickets tickets;
    readonly Repeating keySetRounds;
    readonly Deciders deciders;
    readonly TopicGate topics;
    readonly RovettOptions options;
    readonly SpaceKeeper keeper;
    readonly DataFolderLock folder;
    // Requests wait until first credentials count.
    readonly TaskCompletionSource open = new(TaskCreationOptions.RunContinuationsAsynchronously);
    bool disposed;

    RovettService(RovettOptions options, TimeProvider system, FaultSwitches? switches, DataFolderLock folder)
    {
        this.options = options;
        this.folder = folder;
        var clock = new ServiceClock(system);
        var builder = WebApplication.CreateSlimBuilder(new WebApplicationOptions { ContentRootPath = AppContext.BaseDirectory });
        connections = new Connections(options.MaxConnections);
        Configure(builder, clock);
        app = builder.Build();
        var log = app.Services.GetRequiredService<ILoggerFactory>();
        connections.Log = log.CreateLogger<Connections>();
        var faults = new Faults(clock, log.CreateLogger<Faults>());
        store = SqliteFiles.OpenHistory(Path.Combine(options.Data, SqliteFiles.HistoryName), checkpointsBeside: true,
            failed: e => faults.Thrown(null, "checkpoint", e));
        clock.Restore(store.Clock, options.PlausibleAbsence);
        clock.SettleStanding(store);
        if (clock.RetentionHeldBack > TimeSpan.Zero)
        {
            log.CreateLogger<Housekeeping>().LogWarning("The clock is {Days:0.0} days ahead of the last start's. Retention waits: it " +
                "follows after 24 hours, or at once by 'rovett clock --confirm'", clock.RetentionHeldBack.TotalDays);
        }
        history = SqliteFiles.ReadHistory(Path.Combine(options.Data, SqliteFiles.HistoryName));
        access = new AccessStore(Path.Combine(options.Data, SqliteFiles.AccessName));
        keeper = new SpaceKeeper(access, store.Epoch, clock);
        var spaces = OpenSpaces(clock);
        var recent = new RecentBySpace((long)options.RecentMebibytes << 20);
        var news = new ReceiptNews();
        var monitor = new ActivityMonitor(clock, news);
        foreach (var space in spaces.All) monitor.Load(space, history);

        pump = new LedgerPump(new Ledger(store, new LedgerOptions
        {
            Newcomers = options.NewcomersLookBack,
            StrictAddresses = options.StrictAddresses,
            RolesFrom = Enum.Parse<RolesFrom>(options.RolesFrom, ignoreCase: true),
            KeepFor = options.KeepForSpan,
            KeepCount = options.KeepCount > 0 ? options.KeepCount : null,
            KeepsFullReceipts = options.FullReceipts.Count > 0,
            ReconnectWindow = TimeSpan.FromSeconds(options.ReconnectWindowSeconds),
            PresenceGrace = TimeSpan.FromSeconds(options.PresenceGraceSeconds),
        }, clock, recent, monitor, faults), TimeSpan.FromMilliseconds(options.MaxSendWaitMs), faults);
        acks = new AckBuffer(pump, clock, faults);
        marks = new MarkSteps(pump);
        sessions = new SessionRegistry(clock, faults);
        if (switches is not null) switches.Blocked += sessions.CutWebSockets;
        var limits = new SessionLimits
        {
            Window = options.Window,
            MaxQueued = 256,
            Heartbeat = TimeSpan.FromSeconds(options.HeartbeatSeconds),
            AckTimeout = TimeSpan.FromSeconds(options.AckTimeoutSeconds)
        };
        var keys = new ApiKeys(access, clock);
        Keys = keys;
        var guard = new OutboundGuard([.. options.WebhookNetworks.Select(n => System.Net.IPNetwork.Parse(n))]);
        keySets = new KeySets(guard, Path.Combine(options.Data, SqliteFiles.KeySetsName), clock, log.CreateLogger<KeySets>());
        var signing = new SigningKeys(access, keySets);
        var tokens = new Tokens(spaces, signing, clock);
        ticketStore = new TicketStore(Path.Combine(options.Data, SqliteFiles.AccessName));
        tickets = new Tickets(ticketStore, signing, clock, faults);
        keySetRounds = new Repeating("key sets", TimeSpan.FromSeconds(15), clock, faults, signing.RefreshWhenDue);
        var use = new UsageLimits(options, connections, clock);
        var origins = new Origins(options.Origins, spaces, clock, log.CreateLogger<Origins>());
        var audit = new AuditTrail(access, clock);
        signing.Dropped += (space, name, ids) =>
        {
            int ended = 0;
            foreach (var session in sessions.In(space).Where(s => s.SigningKey == name && ids.Contains(s.Credential.KeyId)))
            {
                session.End("signing-key-removed", null);
                ended++;
            }
            audit.Note(space, "service", "signing-key.withdrawn", name, json =>
            {
                json.WriteNumber("keys", ids.Count);
                json.WriteNumber("sessionsEnded", ended);
            });
        };
        var refusals = new Refusals(audit, pump, clock);
        deciders = new Deciders(access, pump, guard, clock, log.CreateLogger<Deciders>());
        topics = new TopicGate(pump, deciders, refusals, spaces, options, clock, faults);
        var info = new ServiceInfo(store.Epoch, StoredTime.From(clock.GetUtcNow()), options.Data);
        var operators = new Operators(access, clock);
        var console = new ConsoleEndpoints(access, operators, spaces, monitor, sessions, clock);
        var receipts = new ReceiptReader(history);
        webhooks = new WebhookSender(access, spaces, receipts, news, guard, clock, faults, log.CreateLogger<WebhookSender>());
        var receiptApi = new ReceiptApi(spaces, keys, receipts, news, access, webhooks, guard, audit, clock, limits.Heartbeat,
            app.Lifetime.ApplicationStopping);
        ConsoleLink = access.HasOperators ? null : operators.MakeLink("operate");
        NewConsoleLink = () => operators.MakeLink("operate");
        var directory = new DirectoryApi(spaces, keys, pump, history, audit, tickets, access, clock);
        housekeeping = new Housekeeping(pump, spaces, retention: options.KeepForSpan is not null || options.KeepCount > 0, clock, faults,
            directory.Erased, log.CreateLogger<Housekeeping>());
        var clockApi = new ClockApi(spaces, keys, pump, clock, housekeeping, audit);
        Map(new BackendApi(spaces, keys, pump, history, sessions, origins, use, info, faults, clock, options),
            new AccessApi(spaces, keys, signing, access, audit, history, sessions, clock), directory,
            new UserApi(spaces, tokens, tickets, topics, pump, marks, new InboxReader(history)),
            new TopicApi(spaces, keys, signing, pump, audit, clock),
            new DeciderApi(spaces, keys, access, deciders, guard, audit, clock),
            new SpaceApi(spaces, keeper, keys, signing, pump, access, sessions, webhooks, deciders, audit),
            new LiveEndpoint(
            new LiveServices(pump, new HistoryReader(history), recent, acks, limits, use, tokens, tickets, topics,
            options.MessagesPerSecond, clock, faults,
            marks)
            { Switches = switches }, spaces, tokens, tickets, origins, sessions, options),
            receiptApi, console, new ConsoleAccess(access, operators, spaces, pump, history, origins, use, deciders, keys, audit), origins,
            refusals, faults, clockApi);
        app.Lifetime.ApplicationStopping.Register(
            () => sessions.Close(options.ComeBackWithinMs, TimeSpan.FromSeconds(4)).GetAwaiter().GetResult());
    }

    /// <summary>Opens the data folder and prepares everything, without listening yet.</summary>
    /// <exception cref="StoreException">The data folder can't be used, or another process uses it.</exception>
    public static RovettService Create(RovettOptions options, TimeProvider? clock = null, FaultSwitches? faults = null)
    {
        Directory.CreateDirectory(options.Data, UnixFileMode.UserRead | UnixFileMode.UserWrite | UnixFileMode.UserExecute);
        var folder = DataFolderLock.Take(options.Data);
        try
        {
            return new RovettService(options, clock ?? new BootClock(), faults, folder);
        }
        catch
        {
            folder.Dispose();
            throw;
        }
    }

    /// <summary>Where it listens, once started: <c>http://127.0.0.1:7411</c>.</summary>
    public string Url { get; private set; } = "";

    /// <summary>What was made on this start, to be shown once.</summary>
    public List<FirstCredentials> Credentials { get; } = [];

    /// <summary>The one-time sign-up secret, when nobody can sign in to the console yet.</summary>
    public string? ConsoleLink { get; private set; }

    /// <summary>Makes another one-time sign-up secret.</summary>
    public Func<string> NewConsoleLink { get; }

    /// <summary>The API keys.</summary>
    public ApiKeys Keys { get; }

    SpaceDirectory OpenSpaces(ServiceClock clock)
    {
        var spaces = new SpaceDirectory(clock);
        foreach (var name in store.Spaces().Concat(options.Spaces).Prepend("main").Distinct())
        {
            if (store.FindSpace(name) is not { } row)
            {
                store.Begin();
                row = store.AddSpace(name, SpaceKeeper.NewKey());
                store.Commit();
            }
            if (keeper.FirstCredentials(name) is { } made) Credentials.Add(made);
            spaces.Add(keeper.Open(row, store.PoliciesAt(row.Id, row.Head)));
        }
        return spaces;
    }

    void Configure(WebApplicationBuilder builder, TimeProvider clock)
    {
        builder.Logging.ClearProviders();
        builder.Logging.AddSerilog(new LoggerConfiguration().MinimumLevel.Is(Enum.Parse<LogEventLevel>(options.Log, ignoreCase: true))
            .MinimumLevel.Override("Microsoft", LogEventLevel.Warning).MinimumLevel.Override("System", LogEventLevel.Warning)
            .WriteTo.Console(standardErrorFromLevel: LogEventLevel.Verbose,
            outputTemplate: "{Timestamp:HH:mm:ss.fff} {Level:u4} {Message:lj}{NewLine}{Exception}",
            formatProvider: CultureInfo.InvariantCulture)
            .CreateLogger(), dispose: true);
        // For this provider by name: it sets a filter of its own for everything, which others don't override.
        // Why it can't start is said by who starts it.
        builder.Logging.AddFilter<Serilog.Extensions.Logging.SerilogLoggerProvider>("Microsoft.Extensions.Hosting.Internal.Host",
            LogLevel.None);
        // It makes an activity for each request, which nobody reads.
        builder.Logging.AddFilter<Serilog.Extensions.Logging.SerilogLoggerProvider>("Microsoft.AspNetCore.Hosting.Diagnostics",
            LogLevel.None);
        builder.WebHost.UseSockets(o =>
        {
            o.Backlog = 4096;
            // A writer's bytes go to the socket on the thread that has them: one hop less for each write.
            o.UnsafePreferInlineScheduling = true;
            o.MaxWriteBufferSize = SocketMemory.Waiting;
            o.CreateBoundListenSocket = SocketMemory.Listen;
        });
        builder.WebHost.ConfigureKestrel(o =>
        {
            o.AddServerHeader = false;
            o.Limits.MaxRequestBodySize = options.MaxBodyBytes;
            o.Limits.MaxRequestHeadersTotalSize = 16 * 1024;
            // Counts only while something waits to be read.
            o.Limits.MinResponseDataRate = new Microsoft.AspNetCore.Server.Kestrel.Core.MinDataRate(options.MinReadBytesPerSecond,
                TimeSpan.FromSeconds(5));
            o.Listen(IPAddress.Parse(options.Address), options.Port, listen =>
            {
                listen.Use(connections.Count);
                if (options.Certificate is null) return;
                var certificate = new Certificate(options.Certificate, options.CertificateKey!, clock,
                    listen.ApplicationServices.GetRequiredService<ILogger<Certificate>>());
                listen.UseHttps(new Microsoft.AspNetCore.Server.Kestrel.Https.TlsHandshakeCallbackOptions
                {
                    OnConnection =
                    _ => ValueTask.FromResult(new SslServerAuthenticationOptions { ServerCertificateContext = certificate.Present })
                });
            });
        });
        builder.Services.AddRouting();
        builder.Services.Configure<Microsoft.Extensions.Hosting.HostOptions>(o => o.ShutdownTimeout = TimeSpan.FromSeconds(6));
    }

    void Map(BackendApi backend, AccessApi access, DirectoryApi directory, UserApi user, TopicApi topic, DeciderApi decider, SpaceApi space,
        LiveEndpoint live, ReceiptApi receipts, ConsoleEndpoints console, ConsoleAccess consoleAccess, Origins origins, Refusals refusals,
        Faults faults, ClockApi clock)
    {
        if (options.TrustedProxies.Count > 0)
        {
            var forwarded = new ForwardedHeadersOptions
            { ForwardedHeaders = Microsoft.AspNetCore.HttpOverrides.ForwardedHeaders.XForwardedFor, ForwardLimit = null };
            forwarded.KnownProxies.Clear();
            forwarded.KnownIPNetworks.Clear();
            foreach (var network in options.TrustedProxies) forwarded.KnownIPNetworks.Add(System.Net.IPNetwork.Parse(network));
            app.UseForwardedHeaders(forwarded);
        }
        app.Use(next => context => open.Task.IsCompleted ? next(context) : WhenOpen(context, next));
        app.Use(next => context =>
        {
            SpaceDirectory.Enter(context);
            return next(context);
        });
        app.Use(next => new ProblemMiddleware(next, refusals, faults).Invoke);
        app.Use(next => context => Cors(context, next, origins));
        app.UseRouting();
        app.MapPost("/v1/notifications", backend.Send);
        app.MapGet("/v1/notifications/{id}", backend.Show);
        app.MapDelete("/v1/notifications/{id}", backend.Withdraw);
        app.MapGet("/v1/users", directory.ListUsers);
        app.MapPost("/v1/users", directory.ImportUsers);
        app.MapPut("/v1/users", directory.PutUser);
        app.MapDelete("/v1/users", directory.EraseUser);
        app.MapPost("/v1/users/sign-out", directory.SignOut);
        app.MapPut("/v1/users/{id}", directory.PutUser);
        app.MapGet("/v1/users/{id}", directory.ShowUser);
        app.MapDelete("/v1/users/{id}", directory.EraseUser);
        app.MapPost("/v1/users/{id}/sign-out", directory.SignOut);
        app.MapGet("/v1/roles", directory.ListRoles);
        app.MapPut("/v1/roles", directory.PutRole);
        app.MapPut("/v1/roles/{role}", directory.PutRole);
        app.MapGet("/v1/roles/{role}", directory.ShowRole);
        app.MapGet("/v1/receipts", receipts.Receipts);
        app.MapPut("/v1/webhooks/{name}", receipts.PutWebhook);
        app.MapGet("/v1/webhooks/{name}", receipts.ShowWebhook);
        app.MapDelete("/v1/webhooks/{name}", receipts.RemoveWebhook);
        app.MapGet("/v1/webhooks", receipts.ListWebhooks);
        app.MapGet("/v1/status", backend.Status);
        app.MapGet("/v1/sessions", backend.Sessions);
        app.MapGet("/v1/limits", backend.ShowLimits);
        app.MapPost("/v1/keys", access.MakeKey);
        app.MapGet("/v1/keys", access.ListKeys);
        app.MapDelete("/v1/keys/{id}", access.RevokeKey);
        app.MapPost("/v1/keys/{id}/rotate", access.RotateKey);
        app.MapPost("/v1/signing-keys", access.AddSigningKey);
        app.MapGet("/v1/signing-keys", access.ListSigningKeys);
        app.MapDelete("/v1/signing-keys/{name}", access.RemoveSigningKey);
        app.MapGet("/v1/settings", access.ShowSettings);
        app.MapPatch("/v1/settings", access.PatchSettings);
        app.MapGet("/v1/audit", access.Audit);
        app.MapGet("/v1/inbox", user.Inbox);
        app.MapGet("/v1/inbox/totals", user.InboxTotals);
        app.MapGet("/v1/inbox/{id}", user.InboxItem);
        app.MapPost("/v1/inbox/marks", user.Marks);
        app.MapPost("/v1/inbox/{id}/take", user.Take);
        app.MapPost("/v1/inbox/{id}/release", user.Release);
        app.MapGet("/v1/mutes", user.Mutes);
        app.MapPost("/v1/mutes", user.Mute);
        app.MapDelete("/v1/mutes", user.Unmute);
        app.MapGet("/v1/follows", user.Follows);
        app.MapPost("/v1/follows", user.Follow);
        app.MapDelete("/v1/follows", user.Unfollow);
        app.MapGet("/v1/policies", topic.ShowPolicies);
        app.MapPut("/v1/policies", topic.PutPolicies);
        app.MapPost("/v1/grants", topic.MakeGrant);
        app.MapGet("/v1/grants", topic.ListGrants);
        app.MapDelete("/v1/grants/{grant}", topic.EndGrant);
        app.MapGet("/v1/explain", topic.Explain);
        app.MapPut("/v1/deciders/{name}", decider.Put);
        app.MapGet("/v1/deciders/{name}", decider.Show);
        app.MapDelete("/v1/deciders/{name}", decider.Remove);
        app.MapGet("/v1/deciders", decider.List);
        app.MapPost("/v1/tickets", user.Ticket);
        app.MapMethods("/v1/live", ["GET", "CONNECT"], live.Connect);
        app.MapGet("/v1/live/{session}", live.Poll);
        app.MapPost("/v1/live/{session}", live.Post);
        app.MapPost("/v1/console-links", consoleAccess.MakeLinkByKey);
        app.MapGet("/v1/clock", clock.Show);
        app.MapPost("/v1/clock/confirm", clock.Confirm);
        app.MapGet("/v1/spaces", space.List);
        app.MapPost("/v1/spaces", space.Make);
        app.MapDelete("/v1/spaces/{name}", space.Remove);
        app.MapGet("/healthz", (RequestDelegate)(context => context.Response.WriteAsync("ok\n")));
        app.MapGet("/readyz", (RequestDelegate)(async context =>
        {
            if (pump.StoreFailing) await pump.Ask(new ProbeCommand("main")); // and 503 as long as that fails
            else await pump.Ask(new HeadCommand("main"));
            await context.Response.WriteAsync("ready\n");
        }));
        app.MapGet("/console/api/me", console.Me);
        app.MapPost("/console/api/sign-up", console.SignUp);
        app.MapPost("/console/api/sign-in", console.SignIn);
        app.MapPost("/console/api/sign-out", console.SignOut);
        app.MapGet("/console/api/live", console.Live);
        app.MapGet("/console/api/access", consoleAccess.Show);
        app.MapGet("/console/api/explain", consoleAccess.Explain);
        app.MapGet("/console/api/operators", consoleAccess.List);
        app.MapPost("/console/api/operators/remove", consoleAccess.Remove);
        app.MapPost("/console/api/links", consoleAccess.MakeLink);
        app.MapPost("/console/api/sign-out-user", consoleAccess.SignOutUser);
        app.MapGet("/",
            (RequestDelegate)(context =>
            context.Response.WriteAsync(
            $"Rovett {ServiceInfo.Version} is running. The console is at /console; the API is under /v1 (docs/protocol.md).\n")));
        Pages("/console", Path.Combine(AppContext.BaseDirectory, "wwwroot", "console"));
        app.MapGet("/rovett.js", (RequestDelegate)ClientForPages);
        app.UseEndpoints(static _ => { });
    }

    /// <summary>The client in one file, for pages without a bundler: those whose origin is allowed.</summary>
    static Task ClientForPages(HttpContext context)
    {
        var file = new FileInfo(Path.Combine(AppContext.BaseDirectory, "wwwroot", "rovett.js"));
        if (!file.Exists)
        {
            throw new Problem(404, "pages-not-built", "The client is not built", "This build has no /rovett.js.",
                "Run 'make build' and start again.").ToException();
        }
        context.Response.ContentType = "text/javascript; charset=utf-8";
        context.Response.Headers.XContentTypeOptions = "nosniff";
        context.Response.Headers.CacheControl = "no-cache";
        return context.Response.SendFileAsync(file.FullName);
    }

    async Task WhenOpen(HttpContext context, RequestDelegate next)
    {
        await open.Task.WaitAsync(context.RequestAborted);
        await next(context);
    }

    /// <summary>Serves a folder of built pages, with a policy under which they load nothing from elsewhere.</summary>
    void Pages(string path, string folder)
    {
        if (!Directory.Exists(folder))
        {
            app.MapGet(path,
                (RequestDelegate)(context =>
                Problems.Write(context,
                new Problem(404, "pages-not-built", "These pages are not built", $"{path} has no pages in this build.",
                "Run 'make build' and start again."))));
            return;
        }
        var files = new PhysicalFileProvider(folder);
        app.MapGet(path, (RequestDelegate)(context => Serve(context, "index.html")));
        app.MapGet(path + "/{**file}",
            (RequestDelegate)(context => Serve(context, (string?)context.Request.RouteValues["file"] ?? "index.html")));

        async Task Serve(HttpContext context, string name)
        {
            var file = files.GetFileInfo(name);
            if (!file.Exists || file.IsDirectory) file = files.GetFileInfo(Path.HasExtension(name) ? "missing" : "index.html");
            if (!file.Exists)
            {
                context.Response.StatusCode = 404;
                return;
            }
            context.Response.ContentType = Path.GetExtension(file.Name) switch
            {
                ".html" => "text/html; charset=utf-8",
                ".js" => "text/javascript; charset=utf-8",
                ".css" => "text/css; charset=utf-8",
                ".svg" => "image/svg+xml",
                ".woff2" => "font/woff2",
                ".json" => "application/json",
                _ => "application/octet-stream"
            };
            // The page's own styles are told by a number that each answer has its own.
            var nonce = file.Name == "index.html" ? Secrets.NewId() : null;
            context.Response.Headers.ContentSecurityPolicy =
                $"default-src 'none'; script-src 'self'; style-src 'self'{(nonce is null ? "" : $" 'nonce-{nonce}'")}; font-src 'self'; " +
                $"img-src 'self' data:; connect-src 'self'; frame-ancestors 'none'; base-uri 'none'; form-action 'self'";
            context.Response.Headers["X-Frame-Options"] = "DENY";
            context.Response.Headers.XContentTypeOptions = "nosniff";
            context.Response.Headers["Referrer-Policy"] = "no-referrer";
            context.Response.Headers.CacheControl = name.StartsWith("assets/", StringComparison.Ordinal)
                ? "public, max-age=31536000, immutable"
                : "no-cache";
            if (nonce is null) await context.Response.SendFileAsync(file);
            else
            {
                await context.Response.WriteAsync(
                    (await File.ReadAllTextAsync(file.PhysicalPath!, context.RequestAborted)).Replace("%nonce%", nonce,
                    StringComparison.Ordinal), context.RequestAborted);
            }
        }
    }

    /// <summary>CORS by exact origins (Fetch standard): what a page of a listed origin may do.</summary>
    static Task Cors(HttpContext context, RequestDelegate next, Origins origins)
    {
        var origin = context.Request.Headers.Origin.ToString();
        if (origin.Length == 0) return next(context);
        context.Response.Headers.Vary = "Origin";
        origins.Require(context);
        var headers = context.Response.Headers;
        headers.AccessControlAllowOrigin = origin;
        headers.AccessControlExposeHeaders = "Link, Retry-After";
        if (context.Request.Method != HttpMethods.Options || !context.Request.Headers.ContainsKey("Access-Control-Request-Method"))
        {
            return next(context);
        }
        headers.AccessControlAllowMethods = "GET, POST, PUT, PATCH, DELETE";
        headers.AccessControlAllowHeaders = "Authorization, Content-Type, Last-Event-ID, Prefer";
        headers.AccessControlMaxAge = "600";
        context.Response.StatusCode = 204;
        return Task.CompletedTask;
    }

    /// <summary>Listens; writes the ready file, announces, and only then lets first credentials count, so that nobody
    /// is ever left without them.</summary>
    /// <param name="announce">Shows <see cref="Url"/> and <see cref="Credentials"/>; null: nobody looks.</param>
    /// <exception cref="IOException">The port is taken or may not be used, or the ready file can't be written.</exception>
    public async Task Start(Action? announce = null)
    {
        await app.StartAsync();
        Url = app.Services.GetRequiredService<IServer>().Features.Get<IServerAddressesFeature>()!.Addresses.First();
        // The file appears once what it says counts; should the process die between, its first form beside it has the credentials.
        var ready = options.ReadyFile is { } file ? WriteReadyFile(file) : null;
        announce?.Invoke();
        foreach (var made in Credentials) keeper.Keep(made);
        open.SetResult();
        if (ready is not null) File.Move(ready, options.ReadyFile!, overwrite: true);
    }

    /// <returns>The file aside that holds what the ready file will.</returns>
    string WriteReadyFile(string file)
    {
        var buffer = new MemoryStream();
        using (var json = new Utf8JsonWriter(buffer, Json.Writing))
        {
            json.WriteStartObject();
            json.WriteString("url", Url);
            if (ConsoleLink is not null) json.WriteString("consoleSignUp", $"{Url}/console#sign-up={ConsoleLink}");
            foreach (var made in Credentials)
            {
                if (made.Space == "main") WriteCredentials(json, "credentials", made);
            }
            if (Credentials.Exists(c => c.Space != "main"))
            {
                json.WriteStartObject("spaces");
                foreach (var made in Credentials.Where(c => c.Space != "main")) WriteCredentials(json, made.Space, made);
                json.WriteEndObject();
            }
            json.WriteEndObject();
        }
        try
        {
            return WriteAside(file, buffer.ToArray());
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException)
        {
            throw new IOException($"The ready file '{file}' can't be written: {error.Message} Nothing was stored of the credentials; " +
                $"the next start makes new ones.", error);
        }
    }

    /// <summary>Writes a file that only its owner may read; aside and then moved, so that a script never reads half of it.</summary>
    public static void WriteSecretFile(string file, byte[] bytes) => File.Move(WriteAside(file, bytes), file, overwrite: true);

    static string WriteAside(string file, byte[] bytes)
    {
        var aside = file + ".part";
        File.Delete(aside); // one that is left over may have another mode
        using var stream = new FileStream(aside, new FileStreamOptions
        { Mode = FileMode.CreateNew, Access = FileAccess.Write, UnixCreateMode = UnixFileMode.UserRead | UnixFileMode.UserWrite });
        stream.Write(bytes);
        stream.Flush(flushToDisk: true);
        return aside;
    }

    static void WriteCredentials(Utf8JsonWriter json, string name, FirstCredentials made)
    {
        json.WriteStartObject(name);
        json.WriteString("adminKey", made.AdminKey);
        json.WriteString("tokenSigningSecret", made.TokenSigningSecret);
        json.WriteEndObject();
    }

    /// <summary>Returns once the service was asked to stop (SIGTERM, Ctrl-C) and has stopped.</summary>
    public Task WaitForStop() => Microsoft.Extensions.Hosting.HostingAbstractionsHostExtensions.WaitForShutdownAsync(app);

    /// <summary>Stops: sessions hear <c>ending</c>, what waits is written.</summary>
    public async ValueTask DisposeAsync()
    {
        if (Interlocked.Exchange(ref disposed, true)) return;
        await app.StopAsync();
        await app.DisposeAsync();
        sessions.Dispose();
        webhooks.Dispose();
        topics.Dispose();
        deciders.Dispose();
        keySetRounds.Dispose();
        keySets.Dispose();
        tickets.Dispose();
        housekeeping.Dispose();
        acks.Dispose();
        pump.Dispose();
        marks.Dispose();
        history.Dispose();
        store.Dispose();
        ticketStore.Dispose();
        access.Dispose();
        keeper.Dispose();
        folder.Dispose();
    }
}
