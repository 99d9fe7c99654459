using System.Globalization;
using System.Text;
using System.Text.Json;
using Rovett.Core.Ledgers.Commands.Topics;
using Rovett.Core.Policies;
using Rovett.Core.Store;
using Rovett.Service.Audit;
using Rovett.Service.Credentials;
using Rovett.Service.Http;
using Rovett.Service.Ledgers;
using Rovett.Service.Spaces;

namespace Rovett.Service.Endpoints.Backend;

/// <summary>Policies: who may do what on topics, all of it as one version.</summary>
public sealed class PoliciesApi(SigningKeys signing, LedgerPump ledger, AuditTrail audit)
{
    const int MaxDocumentBytes = 4 << 20;

    /// <summary>Shows the policies.</summary>
    /// <remarks>Those in effect, or with <c>?version=</c> those that were.</remarks>
    public async Task<PolicyAnswer> ShowPolicies(HttpContext context, Given<PolicyQuery> query)
    {
        var at = query.Sound().Version;
        var version = await ledger.Ask(new FindPoliciesCommand(context.KeyCaller().Space.Name, at));
        if (at is not null && version?.Position != at)
        {
            throw new Problem(404, "unknown-version", "No such version", $"No policies were loaded as version {at}.",
                "Read the version in effect: GET /v1/policies.").ToException();
        }
        return new PolicyAnswer
        {
            Version = version?.Position ?? 0,
            Loaded = version?.Time,
            Policies = version is null
                ? JsonElement.Parse("[]")
                : JsonElement.Parse(version.Document).GetProperty("policies"),
        };
    }

    /// <summary>Loads policies.</summary>
    /// <remarks>All of them, as one version, or none. With <c>If-Match</c> only in place of that version; with
    /// <c>?dryRun=true</c> they are only checked.</remarks>
    public async Task<PoliciesLoaded> PutPolicies(HttpContext context)
    {
        var (space, key) = context.KeyCaller();
        Json.AllowBody(context, MaxDocumentBytes);
        bool dryRun = Json.IsDryRun(context);
        using var body = await Json.Read(context);
        var errors = new List<FieldError>();
        var inPlaceOf = Json.VersionToReplace(context, errors);
        var policies = JsonText.HasBadText(body.RootElement) ? PolicySet.None : PolicyReader.Read(body.RootElement, errors);
        if (JsonText.HasBadText(body.RootElement)) errors.Add(new FieldError("(body)", "contains half of a surrogate pair"));
        if (errors.Count > 0)
        {
            throw Problem.Invalid(errors, "Correct the named policies; the version in effect has not changed.").ToException();
        }
        if (dryRun) return new PoliciesLoaded { DryRun = true, Policies = policies.All.Count };
        var version = await Load(context, space, policies, Encoding.UTF8.GetBytes(Json.OnOneLine(body.RootElement)), inPlaceOf);
        audit.Note(space.Name, key.Actor, "policies.loaded", $"version {version.Position}",
            json => json.WriteNumber("policies", policies.All.Count));
        context.Response.Headers.ETag = string.Create(CultureInfo.InvariantCulture, $"\"{version.Position}\"");
        return new PoliciesLoaded { Version = version.Position, Loaded = version.Time, Policies = policies.All.Count };
    }

    async Task<PolicyVersion> Load(HttpContext context, SpaceRuntime space, PolicySet policies, byte[] document, long? inPlaceOf)
    {
        await space.PolicyTurn.WaitAsync(context.RequestAborted);
        try
        {
            // Tokens are read for what the new policies look at before they take effect, so that none is overlooked.
            space.ClaimPaths = [.. space.ClaimPaths.Union(policies.ClaimPaths)];
            signing.ForgetVerified(space.Name);
            var version = await ledger.Ask(new PutPoliciesCommand(space.Name, policies, document, inPlaceOf)
            { StepSize = LedgerPump.StepSize });
            space.ClaimPaths = policies.ClaimPaths;
            return version;
        }
        finally
        {
            space.PolicyTurn.Release();
        }
    }
}
