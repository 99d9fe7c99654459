using System.Text.Json;

namespace Rovett.Service.Http;

/// <summary>What a caller gave: a request's body, or its query.</summary>
/// <typeparam name="T">Its shape.</typeparam>
/// <param name="value">The members that are right; the others are left out.</param>
/// <param name="members">The names of all members that were given.</param>
/// <param name="errors">What is wrong with members.</param>
/// <param name="isQuery">Members are query parameters.</param>
public sealed class Given<T>(T value, IReadOnlySet<string> members, List<FieldError> errors, bool isQuery)
{
    /// <summary>The members that are right; the others are left out.</summary>
    public T Value => value;

    /// <summary>What is wrong so far.</summary>
    public List<FieldError> Errors => errors;

    /// <summary>True when the member was given, right or wrong.</summary>
    public bool Has(string member) => members.Contains(member);

    /// <summary>True when the member was given and is right in itself.</summary>
    public bool IsSound(string member) =>
        Has(member) && !errors.Exists(e => e.Field == member || e.Field.StartsWith(member + "[", StringComparison.Ordinal));

    /// <summary>Says what is wrong with a member.</summary>
    public void Wrong(string member, string detail) => errors.Add(new FieldError(member, detail));

    /// <summary>Says that a member that must be there is not; nothing when it was given, and is told as wrong already.</summary>
    public void Missing(string member, string detail)
    {
        if (!Has(member)) Wrong(member, detail);
    }

    /// <summary>Goes on only when nothing is wrong.</summary>
    /// <param name="fix">What to do, where more can be said than to correct the named members.</param>
    /// <exception cref="ProblemException">422: something is.</exception>
    public T Sound(string? fix = null)
    {
        if (errors.Count == 0) return value;
        throw (isQuery ? Problem.Invalid(errors, fix ?? "Correct the named query parameters.")
            : fix is not null ? Problem.Invalid(errors, fix) : Problem.Invalid(errors)).ToException();
    }
}

/// <summary>The body of a request as it came, for endpoints that read it themselves.</summary>
/// <param name="Root">The body.</param>
/// <param name="Bytes">The same, byte by byte.</param>
public readonly record struct RawBody(JsonElement Root, byte[] Bytes);

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
