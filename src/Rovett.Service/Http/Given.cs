using System.Text.Json;

namespace Rovett.Service.Http;

/// <summary>A request's body or query, with what is wrong with it.</summary>
/// <typeparam name="T">Its shape.</typeparam>
/// <param name="value">The valid members; the others are left out.</param>
/// <param name="members">The names of all members that were given.</param>
/// <param name="errors">The invalid members.</param>
/// <param name="isQuery">Members are query parameters.</param>
public sealed class Given<T>(T value, IReadOnlySet<string> members, List<FieldError> errors, bool isQuery)
{
    /// <summary>The valid members; the others are left out.</summary>
    public T Value => value;

    /// <summary>The mistakes so far.</summary>
    public List<FieldError> Errors => errors;

    /// <summary>True if the member was given, valid or not.</summary>
    public bool Has(string member) => members.Contains(member);

    /// <summary>True if the member was given and nothing is wrong with it so far.</summary>
    public bool IsSound(string member) =>
        Has(member) && !errors.Exists(e => e.Field == member || e.Field.StartsWith(member + "[", StringComparison.Ordinal));

    /// <summary>Says what is wrong with a member.</summary>
    public void Wrong(string member, string detail) => errors.Add(new FieldError(member, detail));

    /// <summary>Says that a required member is missing; nothing if it was given, since a wrong one is named already.</summary>
    public void Missing(string member, string detail)
    {
        if (!Has(member)) Wrong(member, detail);
    }

    /// <summary>Returns the value if nothing is wrong with it.</summary>
    /// <param name="fix">What to do, if more can be said than to correct the named members.</param>
    /// <exception cref="ProblemException">422: something is wrong; names every field at fault.</exception>
    public T Sound(string? fix = null)
    {
        if (errors.Count == 0) return value;
        throw (isQuery ? Problem.Invalid(errors, fix ?? "Correct the named query parameters.")
            : fix is not null ? Problem.Invalid(errors, fix) : Problem.Invalid(errors)).ToException();
    }
}

/// <summary>The body of a request as it came, for endpoints that read it themselves.</summary>
/// <param name="Root">The body.</param>
public readonly record struct RawBody(JsonElement Root);

/// <summary>An endpoint answers 204, without a body.</summary>
public readonly record struct NoAnswer
{
    /// <summary>Sets the status.</summary>
    public static Task<NoAnswer> To(HttpContext context)
    {
        context.Response.StatusCode = StatusCodes.Status204NoContent;
        return Task.FromResult(default(NoAnswer));
    }
}
