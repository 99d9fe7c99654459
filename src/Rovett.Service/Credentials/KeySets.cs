using System.Net.Http.Headers;
using System.Text.Json;
using Rovett.Core.Ledgers;
using Rovett.Service.Outbound;

namespace Rovett.Service.Credentials;

/// <summary>Public keys that somebody else keeps: a key set (RFC 7517 §5) at an address or in a file, or that of an OpenID
/// Connect issuer. Fetched when first needed, kept as long as its answer says, fetched again when a token names a
/// key that is not in it; what was fetched last stays valid while the other side is down.</summary>
public sealed class KeySets : IDisposable
{
    /// <summary>What a key set in a file is named by: <c>file:name.json</c>, in the folder <c>keys</c> of the data folder.</summary>
    public const string FilePrefix = "file:";
    const int MaxBytes = 256 * 1024, MaxKeys = 100;
    static readonly TimeSpan Timeout = TimeSpan.FromSeconds(5), UsualLife = TimeSpan.FromMinutes(10),
        ShortestLife = TimeSpan.FromMinutes(1), LongestLife = TimeSpan.FromHours(1),
        BetweenUnknown = TimeSpan.FromSeconds(30), AfterFailure = TimeSpan.FromSeconds(10), LastsWithout = TimeSpan.FromHours(24);

    readonly HttpClient http;
    readonly string folder;
    readonly ServiceClock clock;
    readonly ILogger log;

    /// <summary>Makes it.</summary>
    /// <param name="guard">Which addresses may be asked.</param>
    /// <param name="folder">Where files lie.</param>
    /// <param name="clock">The time.</param>
    /// <param name="log">Failures are told here.</param>
    public KeySets(OutboundGuard guard, string folder, ServiceClock clock, ILogger<KeySets> log)
    {
        (this.folder, this.clock, this.log) = (folder, clock, log);
        http = new HttpClient(guard.Handler()) { Timeout = Timeout, MaxResponseContentBufferSize = MaxBytes };
    }

    /// <summary>A source of keys.</summary>
    /// <param name="name">The name of the signing key it stands for.</param>
    /// <param name="address">An address, or a file.</param>
    /// <param name="isIssuer">The address is an issuer's.</param>
    public Source Of(string name, string address, bool isIssuer) => new(this, name, address, isIssuer);

    /// <summary>One of them.</summary>
    public sealed class Source(KeySets owner, string name, string address, bool isIssuer)
    {
        readonly SemaphoreSlim turn = new(1);
        volatile Fetched? fetched;

        /// <summary>Hears which keys were there before a fetch and are gone.</summary>
        public event Action<IReadOnlySet<string>>? Dropped;

        /// <summary>When it was last fetched, how many keys it has, and why it could not be fetched last time.</summary>
        public (DateTimeOffset? At, int Keys, string? Error) State => fetched is { } f ? (f.At, f.Keys.Count, f.Error) : (null, 0, null);

        /// <summary>The keys of an algorithm, by the name that a token gives, if it gives one.</summary>
        /// <exception cref="ProblemException">503: it could never be fetched, or not for a day.</exception>
        public async ValueTask<IReadOnlyList<VerifyingKey>> Find(string algorithm, string? kid)
        {
            if (Needed(kid)) await Refresh(kid);
            return [.. Usable().Keys.Where(k => k.Algorithm == algorithm && (kid is null || k.Kid is null || k.Kid == kid))];
        }

        /// <summary>Whether it still has a key.</summary>
        /// <exception cref="ProblemException">503: it could never be fetched, or not for a day.</exception>
        public async ValueTask<bool> Holds(string keyId)
        {
            if (Needed(null)) await Refresh(null);
            return Usable().Keys.Any(k => k.Id == keyId);
        }

        /// <summary>Whether it has a key, as far as is known now: before the first fetch it may.</summary>
        public bool MayHave(string keyId) => fetched is not { At: not null } have || have.Keys.Any(k => k.Id == keyId);

        /// <summary>Fetches it again if it is in use and that is due.</summary>
        public async Task RefreshWhenDue()
        {
            if (fetched is { At: not null } && Needed(null)) await Refresh(null);
        }

        /// <summary>Fetches it again if it was ever fetched, whether or not that is due.</summary>
        public async Task FetchAgain()
        {
            if (fetched is not { At: not null } have) return;
            fetched = have with { FreshUntil = default, NotBefore = default };
            await Refresh(null);
        }

        Fetched Usable() => fetched is { At: not null } have && Due - have.FetchedAt <= LastsWithout ? have
            : throw new Problem(503, "signing-keys-unavailable", "Signing keys unavailable",
            $"The signing key '{name}' is a key set that could not be fetched.",
            "Try again shortly. Operators: GET /v1/signing-keys says why.")
            { RetryAfterSeconds = 10 }.ToException();

        // By the due time, which a clock that is set does not change: what was withdrawn must not be believed for longer.
        TimeSpan Due => TimeSpan.FromMicroseconds(owner.clock.Due.Micros);

        bool Needed(string? kid)
        {
            var now = Due;
            if (fetched is not { } have) return true;
            if (now < have.NotBefore) return false;
            return have.At is null || now >= have.FreshUntil || (kid is not null && !have.Keys.Any(k => k.Kid is null || k.Kid == kid))
                || (IsFile && FileTime() != have.FileTime);
        }

        bool IsFile => address.StartsWith(FilePrefix, StringComparison.Ordinal);
        DateTime FileTime() => File.GetLastWriteTimeUtc(Path.Combine(owner.folder, address[FilePrefix.Length..]));

        async Task Refresh(string? kid)
        {
            await turn.WaitAsync();
            HashSet<string>? dropped = null;
            try
            {
                if (!Needed(kid)) return; // somebody else has fetched it meanwhile
                var now = Due;
                try
                {
                    var fileTime = IsFile ? FileTime() : default;
                    var (keys, life) = await Fetch();
                    dropped = [.. (fetched?.Keys ?? []).Select(k => k.Id).Except(keys.Select(k => k.Id))];
                    fetched = new Fetched(keys, owner.clock.GetUtcNow(), now, now + life, IsFile ? now : now + BetweenUnknown, null,
                        fileTime);
                }
                catch (Exception error) when (error is HttpRequestException or IOException or OperationCanceledException or JsonException
                    or FormatException or UnauthorizedAccessException)
                {
                    var why = error is OperationCanceledException
                        ? $"there was no answer within {Timeout.TotalSeconds:0} s"
                        : (error.InnerException as OutboundRefusedException)?.Message ?? error.Message;
                    if (fetched?.Error is null)
                    {
                        owner.log.LogWarning("The signing key {Name} could not be fetched from {Address}: {Why}", name, address, why);
                    }
                    fetched = (fetched ?? new Fetched([], null, default, default, default, null, default)) with
                    { Error = why, NotBefore = now + AfterFailure };
                }
            }
            finally
            {
                turn.Release();
            }
            if (dropped is { Count: > 0 }) Dropped?.Invoke(dropped);
        }

        async Task<(IReadOnlyList<VerifyingKey> Keys, TimeSpan Life)> Fetch()
        {
            if (IsFile)
            {
                return (Read(await File.ReadAllBytesAsync(Path.Combine(owner.folder, address[FilePrefix.Length..])), null), LongestLife);
            }
            var where = address;
            if (isIssuer)
            {
                var (found, _) = await Get(address.TrimEnd('/') + "/.well-known/openid-configuration");
                using var discovery = JsonDocument.Parse(found);
                if (!discovery.RootElement.TryGetProperty("issuer", out var said) || !said.ValueEquals(address))
                {
                    throw new FormatException("its discovery document names another issuer");
                }
                if (!discovery.RootElement.TryGetProperty("jwks_uri", out var uri) || !JsonText.TryString(uri, out where!))
                {
                    throw new FormatException("its discovery document has no jwks_uri");
                }
            }
            var (bytes, life) = await Get(where);
            return (Read(bytes, isIssuer ? address : null), life);
        }

        async Task<(byte[] Bytes, TimeSpan Life)> Get(string url)
        {
            if (!Uri.TryCreate(url, UriKind.Absolute, out var uri) || uri.Scheme is not ("http" or "https"))
            {
                throw new FormatException("it names no http address");
            }
            using var request = new HttpRequestMessage(HttpMethod.Get, uri);
            request.Headers.Accept.Add(new MediaTypeWithQualityHeaderValue("application/json"));
            using var response = await owner.http.SendAsync(request);
            if (!response.IsSuccessStatusCode) throw new HttpRequestException($"it answered {(int)response.StatusCode}");
            var life = response.Headers.CacheControl is { NoStore: false, NoCache: false, MaxAge: { } age } ? age : UsualLife;
            return (await response.Content.ReadAsByteArrayAsync(),
                TimeSpan.FromTicks(Math.Clamp(life.Ticks, ShortestLife.Ticks, LongestLife.Ticks)));
        }

        List<VerifyingKey> Read(byte[] bytes, string? issuer)
        {
            using var set = JsonDocument.Parse(bytes);
            if (set.RootElement.ValueKind != JsonValueKind.Object || !set.RootElement.TryGetProperty("keys", out var keys)
                || keys.ValueKind != JsonValueKind.Array)
            {
                throw new FormatException("it is not a key set: an object with an array 'keys'");
            }
            var read = new List<VerifyingKey>();
            // What can't be used here is in many sets: keys for encryption, other curves.
            foreach (var jwk in keys.EnumerateArray().Take(MaxKeys))
            {
                if (VerifyingKey.OfJwk(jwk, name, null, issuer, out _) is { } key) read.Add(key);
            }
            return read;
        }

        /// <param name="Keys">What it has.</param>
        /// <param name="At">When that was fetched; null: never.</param>
        /// <param name="FetchedAt">The same as due time, as what follows.</param>
        /// <param name="FreshUntil">As long as it need not be asked again.</param>
        /// <param name="NotBefore">As long as it is not asked again, whatever a token names.</param>
        /// <param name="Error">Why it could not be fetched last time.</param>
        /// <param name="FileTime">Of a file.</param>
        sealed record Fetched(IReadOnlyList<VerifyingKey> Keys, DateTimeOffset? At, TimeSpan FetchedAt, TimeSpan FreshUntil,
            TimeSpan NotBefore, string? Error, DateTime FileTime);
    }

    /// <inheritdoc/>
    public void Dispose() => http.Dispose();
}
