using System.Text.Json;

namespace Rovett.Core.Values;

/// <summary>What went wrong, for the one who caused it: an RFC 9457 document with our extension members <c>fix</c>
/// (what to do about it) and <c>errors</c> (each field at fault).</summary>
/// <param name="Status">The HTTP status it is answered with.</param>
/// <param name="Slug">The last part of its <c>type</c>.</param>
/// <param name="Title">A short description of the kind of problem.</param>
/// <param name="Detail">This case.</param>
/// <param name="Fix">How to fix it.</param>
public sealed record Problem(int Status, string Slug, string Title, string Detail, string Fix)
{
    /// <summary>What every <c>type</c> begins with (RFC 9457 §3.1.1: an absolute URI).</summary>
    public const string TypePrefix = "urn:rovett:problem:";

    /// <summary>The fields at fault, when there are any.</summary>
    public IReadOnlyList<FieldError> Errors { get; init; } = [];

    /// <summary>Seconds after which to try again, for 429 and 503.</summary>
    public int? RetryAfterSeconds { get; init; }

    /// <summary>The id of the request that it happened in, under which the service's log has it; null: it is not logged.</summary>
    public string? Request { get; init; }

    /// <summary>Writes the members into the current object.</summary>
    public void WriteMembers(Utf8JsonWriter json)
    {
        json.WriteString("type", TypePrefix + Slug);
        json.WriteString("title", Title);
        json.WriteNumber("status", Status);
        json.WriteString("detail", Detail);
        json.WriteString("fix", Fix);
        if (Request is not null) json.WriteString("instance", "urn:rovett:request:" + Request);
        if (Errors.Count > 0) FieldError.WriteAll(json, Errors);
    }

    /// <summary>A body or message that breaks the rules of its fields.</summary>
    public static Problem Invalid(IReadOnlyList<FieldError> errors,
        string fix = "Fix the fields and send again; nothing was stored.") =>
        new(422, "invalid-fields", "Some fields are invalid",
            string.Join("; ", errors.Select(e => $"{e.Field}: {e.Detail}")), fix)
        { Errors = errors };

    /// <summary>A problem as an exception, for code that answers requests.</summary>
    public ProblemException ToException() => new(this);
}

/// <summary>Carries a <see cref="Problem"/> to the code that answers the request.</summary>
public sealed class ProblemException(Problem problem) : Exception(problem.Detail)
{
    /// <summary>The answer.</summary>
    public Problem Problem { get; } = problem;
}
