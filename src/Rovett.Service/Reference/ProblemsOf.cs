using Rovett.Service.Credentials;
using Rovett.Service.Http;
using static Rovett.Service.Http.Operation;

namespace Rovett.Service.Reference;

/// <summary>The problems that an operation can answer: its own, and those of all that take the same credential or a body.</summary>
static class ProblemsOf
{
    static readonly Refusal[] Any = [new(404, "unknown-space"), new(500, "internal"), new(503, "store-unavailable")];

    static readonly Refusal[] Key =
    [
        .. Of(401, ["api-key-missing", "api-key-unknown", "api-key-ended", "api-key-revoked", "token-for-api-key"]),
        .. Of(403, ["api-key-scope", "api-key-of-another-space"]),
    ];

    static readonly Refusal[] Token =
    [
        .. Of(401, ["token-missing", "token-malformed", "token-algorithm", "token-signature", "token-claims", "token-critical",
            "token-expired", "token-not-yet", "token-life", "token-audience", "token-issuer", "api-key-for-token", "signed-out"]),
        .. Of(403, ["token-of-another-space", "user-blocked"]),
        .. Of(503, ["signing-keys-unavailable"]),
    ];

    static readonly Refusal[] Body =
        [new(400, "malformed-json"), new(400, "bad-request"), new(413, "body-too-large"), new(422, "invalid-fields")];

    /// <summary>All of them, by status.</summary>
    public static IEnumerable<Refusal> Operation(Operation operation, RequiredAccess? access)
    {
        IEnumerable<Refusal> all = operation.Refused;
        if (access is not null) all = all.Concat(access.By == AccessBy.Token ? Token : Key).Concat(Any);
        if (operation.Body is not null) all = all.Concat(Body);
        if (operation.Query is not null || operation.Path.Count > 0 || operation.RequestHeaders.Count > 0)
        {
            all = all.Append(new Refusal(422, "invalid-fields"));
        }
        return all.Distinct().OrderBy(r => r.Status);
    }

    static IEnumerable<Refusal> Of(int status, string[] slugs) => slugs.Select(s => new Refusal(status, s));
}
