using Rovett.Service.Audit;
using Rovett.Service.Credentials;
using Rovett.Service.Http;
using Rovett.Storage.Sql;

namespace Rovett.Service.Endpoints.Admin;

/// <summary>The audit log.</summary>
public sealed class AuditApi(AuditTrail audit, SqlHistory history)
{
    const int MostActs = 500;

    /// <summary>Lists who changed what.</summary>
    /// <remarks>Oldest first, at most 500; <c>next</c> leads to more. It can't be changed and holds no secret.</remarks>
    public Task<AuditPage> ListAudit(HttpContext context, Given<AuditQuery> query)
    {
        var acts = audit.After(context.KeyCaller().Space.Name, query.Sound().After ?? 0, MostActs);
        return Task.FromResult(new AuditPage
        {
            Acts = [.. acts.Select(a => ActAnswer.Of(a, history))],
            Next = acts.Count == MostActs ? acts[^1].Id : null,
        });
    }
}
