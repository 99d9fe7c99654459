namespace Rovett.Service.Intakes;

/// <summary>An intake as it is configured.</summary>
/// <param name="Space">The space that its events are for.</param>
/// <param name="Name">Its name, unique within the space.</param>
/// <param name="Kind">Where it takes them from.</param>
public sealed record IntakeSettings(string Space, string Name, IIntakeKind Kind)
{
    /// <summary>The types of events that it may bring, exact or ending in <c>*</c>; empty: any.</summary>
    public IReadOnlyList<string> Types { get; init; } = [];

    /// <summary>The sources of events that it may bring, exact or ending in <c>*</c>; empty: any.</summary>
    public IReadOnlyList<string> Sources { get; init; } = [];

    /// <summary>The most that is fetched at once.</summary>
    public int Batch { get; init; } = 500;

    /// <summary>Lets through an event that it may bring.</summary>
    /// <exception cref="ProblemException">It may not bring this one.</exception>
    public void RequireMayBring(string type, string source)
    {
        var errors = new List<FieldError>();
        if (!Patterns.Cover(Types, type)) errors.Add(Outside("type", type, Types));
        if (!Patterns.Cover(Sources, source)) errors.Add(Outside("source", source, Sources));
        if (errors.Count > 0) throw Problem.Invalid(errors).ToException();
    }

    static FieldError Outside(string field, string text, IReadOnlyList<string> allowed) =>
        new(field, $"'{text}' is not among those of this intake: {string.Join(", ", allowed)}");
}
