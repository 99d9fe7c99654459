namespace Rovett.Core.Policies;

/// <summary>The decision on one right of one user on one topic.</summary>
/// <param name="Allowed">Whether the user has the right.</param>
/// <param name="By">The policy or grant that decided: <c>policy 'berth crew'</c>, <c>grant 41</c>; empty: none allows it.</param>
/// <param name="Ask">The policy whose decider must be asked first; null: none.</param>
/// <param name="Profile">The person's profile in a grant, as JSON; empty: none.</param>
/// <param name="CountOnly">Presence shows only the number of people.</param>
public readonly record struct Decision(bool Allowed, string By, Policy? Ask = null, string Profile = "", bool CountOnly = false);

/// <summary>One step of a decision, for explanations.</summary>
/// <param name="What">The policy or grant that was looked at.</param>
/// <param name="Outcome"><c>allows</c>, <c>forbids</c>, <c>asks</c>, or <c>does not apply</c>.</param>
/// <param name="Why">Why.</param>
/// <param name="Fix">The change that would help; empty: none.</param>
public sealed record DecisionStep(string What, string Outcome, string Why, string Fix);

/// <summary>The facts about a user that a decision depends on.</summary>
public interface IUserFacts
{
    /// <summary>The id.</summary>
    string User { get; }
    /// <summary>Whether the user holds a role.</summary>
    bool HoldsRole(string role);
    /// <summary>The values of a claim of the user's newest token; empty: it has none, or none was shown since a policy
    /// first named it.</summary>
    IReadOnlyList<string> Claim(string path);
}
