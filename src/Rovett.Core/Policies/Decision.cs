namespace Rovett.Core.Policies;

/// <summary>What is decided of one right of one user on one topic.</summary>
/// <param name="Allowed">Whether it is the user's.</param>
/// <param name="By">What decided: <c>policy 'berth crew'</c>, <c>grant 41</c>; empty: no policy or grant allows it.</param>
/// <param name="Ask">The policy whose decider must be asked first; null: none.</param>
/// <param name="Profile">What a grant says of the person, as JSON; empty: nothing.</param>
/// <param name="CountOnly">Of presence: how many are there, and not who.</param>
public readonly record struct Decision(bool Allowed, string By, Policy? Ask = null, string Profile = "", bool CountOnly = false);

/// <summary>One step on the way to a decision, for who may know.</summary>
/// <param name="What">The policy or grant that was looked at.</param>
/// <param name="Outcome"><c>allows</c>, <c>forbids</c>, <c>asks</c>, or <c>does not apply</c>.</param>
/// <param name="Why">Why.</param>
/// <param name="Fix">What would change it; empty: nothing to say.</param>
public sealed record DecisionStep(string What, string Outcome, string Why, string Fix);

/// <summary>What a decision looks at of a user.</summary>
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
