using Rovett.Core.Addresses;
using Rovett.Storage.Access;

namespace Rovett.Service.Credentials;

/// <summary>The credential of a request.</summary>
public sealed class ApiKey(StoredApiKey stored, string? actor = null)
{
    readonly HashSet<string> scopes = [.. stored.Scopes.Split(',')];

    /// <summary>As stored.</summary>
    public StoredApiKey Stored => stored;
    /// <summary>The types of notifications that it may send, exact or ending in <c>*</c>; empty: any.</summary>
    public IReadOnlyList<string> Types { get; } = ApiKeys.ListOf(stored.Types);
    /// <summary>The addresses that it may send to, exact or ending in <c>*</c>; empty: any.</summary>
    public IReadOnlyList<string> Addresses { get; } = ApiKeys.ListOf(stored.Addresses);
    /// <summary>The types of events that it may publish, exact or ending in <c>*</c>; empty: any.</summary>
    public IReadOnlyList<string> Events { get; } = ApiKeys.ListOf(stored.Events);
    /// <summary>The sources of events that it may publish, exact or ending in <c>*</c>; empty: any.</summary>
    public IReadOnlyList<string> Sources { get; } = ApiKeys.ListOf(stored.Sources);
    /// <summary>Its name in the audit log.</summary>
    public string Actor => actor ?? $"key:{stored.Id} {stored.Name}";

    /// <summary>Whether it has a scope; <c>admin</c> covers the others.</summary>
    public bool Has(string scope) => scopes.Contains(scope) || scopes.Contains("admin");

    /// <summary>Whether it may not send everything to everybody.</summary>
    public bool IsNarrowed => Types.Count + Addresses.Count > 0;

    /// <summary>Whether it may send a type to all of some addresses.</summary>
    public bool MaySend(string type, IEnumerable<string> to) => Patterns.Cover(Types, type) && to.All(a => Patterns.Cover(Addresses, a));

    /// <summary>Lets through what it may send.</summary>
    /// <exception cref="ProblemException">403, naming what it may not send, and each address it may not send to.</exception>
    public void RequireMaySend(string type, IEnumerable<Address> to, string path = "")
    {
        var errors = new List<FieldError>();
        if (!Patterns.Cover(Types, type))
        {
            errors.Add(new FieldError(path + "type",
                $"'{type}' is not among the types that the key '{stored.Name}' may send: {string.Join(", ", Types)}"));
        }
        int i = 0;
        foreach (var address in to)
        {
            if (!Patterns.Cover(Addresses, address.ToString()))
            {
                errors.Add(new FieldError($"{path}to[{i}]",
                    $"{address} is not among the addresses that the key '{stored.Name}' may send to: {string.Join(", ", Addresses)}"));
            }
            i++;
        }
        if (errors.Count > 0)
            throw new Problem(403, "api-key-narrowed", "API key not allowed to send this", string.Join("; ", errors.Select(e => e.Detail)),
                "Use a key that covers it: POST /v1/keys with types and addresses.")
            { Errors = errors }.ToException();
    }

    /// <summary>Lets through webhooks and e-mails of missed deadlines.</summary>
    /// <exception cref="ProblemException">403: the key is narrowed, and they can't be.</exception>
    public void RequireMayCallOut(string field)
    {
        if (!IsNarrowed) return;
        var error = new FieldError(field,
            $"the key '{stored.Name}' is narrowed to types or addresses, and may neither have webhooks called nor e-mails sent");
        throw new Problem(403, "api-key-narrowed", "API key not allowed to send this", error.Detail,
            "Use a key that is not narrowed: POST /v1/keys without types and addresses.")
        { Errors = [error] }.ToException();
    }

    /// <summary>Lets through an event that it may publish.</summary>
    /// <exception cref="ProblemException">403: the key is narrowed, and does not cover it. Rules send with the rights of whoever loaded
    /// them, so a key that is narrowed in what it sends must say which events it may publish.</exception>
    public void RequireMayPublish(string type, string source)
    {
        var errors = new List<FieldError>();
        if (IsNarrowed && Events.Count == 0)
        {
            errors.Add(new FieldError("type", $"the key '{stored.Name}' is narrowed to notifications, and may publish no events"));
        }
        else if (!Patterns.Cover(Events, type))
        {
            errors.Add(new FieldError("type",
                $"'{type}' is not among the events that the key '{stored.Name}' may publish: {string.Join(", ", Events)}"));
        }
        if (!Patterns.Cover(Sources, source))
        {
            errors.Add(new FieldError("source",
                $"'{source}' is not among the sources that the key '{stored.Name}' may publish for: {string.Join(", ", Sources)}"));
        }
        if (errors.Count > 0)
            throw new Problem(403, "api-key-narrowed", "API key not allowed to send this", string.Join("; ", errors.Select(e => e.Detail)),
                "Use a key that covers it: POST /v1/keys with events and sources.")
            { Errors = errors }.ToException();
    }
}
