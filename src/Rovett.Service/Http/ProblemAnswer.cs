namespace Rovett.Service.Http;

/// <summary>A problem and its fix (RFC 9457).</summary>
public sealed record ProblemAnswer
{
    /// <summary>The kind of problem: <c>urn:rovett:problem:</c> and its name.</summary>
    [Example("urn:rovett:problem:invalid-fields")]
    public required string Type { get; init; }

    /// <summary>A short description of the kind of problem.</summary>
    [Example("Some fields are invalid")]
    public required string Title { get; init; }

    /// <summary>The HTTP status.</summary>
    [Example(422)]
    public required int Status { get; init; }

    /// <summary>An explanation of this occurrence.</summary>
    [Example("title: is missing")]
    public required string Detail { get; init; }

    /// <summary>How to fix it.</summary>
    [Example("Fix the fields and send again; nothing was stored.")]
    public required string Fix { get; init; }

    /// <summary>The fields at fault.</summary>
    public IReadOnlyList<FieldErrorAnswer>? Errors { get; init; }

    /// <summary>The answer for a problem.</summary>
    public static ProblemAnswer Of(Problem problem) => new()
    {
        Type = Problem.TypePrefix + problem.Slug,
        Title = problem.Title,
        Status = problem.Status,
        Detail = problem.Detail,
        Fix = problem.Fix,
        Errors = problem.Errors.Count > 0 ? FieldErrorAnswer.Of(problem.Errors) : null,
    };
}

/// <summary>A field at fault.</summary>
public sealed record FieldErrorAnswer
{
    /// <summary>The field: <c>to[1]</c>, or <c>(body)</c> for the whole.</summary>
    [Example("title")]
    public required string Field { get; init; }

    /// <summary>The mistake.</summary>
    [Example("is missing")]
    public required string Detail { get; init; }

    /// <summary>The answers for errors.</summary>
    public static IReadOnlyList<FieldErrorAnswer> Of(IReadOnlyList<FieldError> errors) =>
        [.. errors.Select(e => new FieldErrorAnswer { Field = e.Field, Detail = e.Detail })];
}
