using System.Collections.Concurrent;
using Rovett.Core.Catalogues;
using Rovett.Core.Events;
using Rovett.Core.Ledgers.Commands.Events;
using Rovett.Core.Rules;
using Rovett.Service.Ledgers;
using Rovett.Service.Options;
using Rovett.Service.Spaces;

namespace Rovett.Service.Events;

/// <summary>The rules of each space as requests use them. The ledger has the last word: an event worked out under an older version is
/// worked out again there.</summary>
public sealed class RulesInForce(LedgerPump ledger, RovettOptions options, TimeProvider clock)
{
    const int MostUnmatched = 200;

    readonly ConcurrentDictionary<int, (long Version, RuleSet Set)> known = new();
    readonly ConcurrentDictionary<(int Space, string Rule), RuleUse> uses = new();
    readonly ConcurrentDictionary<(int Space, string Type), long> unmatched = new();

    /// <summary>The rules of a space, and their version.</summary>
    public async ValueTask<(long Version, RuleSet Set)> Of(SpaceRuntime space)
    {
        if (known.TryGetValue(space.Id, out var found)) return found;
        var version = await ledger.Ask(new FindRulesCommand(space.Name));
        found = version is null ? (0, RuleSet.None) : (version.Position, RuleReader.Read(version.Document, []));
        return known.AddOrUpdate(space.Id, found, (_, other) => other.Version > found.Version ? other : found);
    }

    /// <summary>Rules were loaded.</summary>
    public void Loaded(SpaceRuntime space, long version, RuleSet set) =>
        known.AddOrUpdate(space.Id, (version, set), (_, other) => other.Version > version ? other : (version, set));

    /// <summary>What rules take into account now.</summary>
    /// <param name="space">The space.</param>
    /// <param name="catalogue">A catalogue in place of that in force.</param>
    public RuleSetting Setting(SpaceRuntime space, Catalogue? catalogue = null) => new(clock.GetUtcNow(), space.Settings.Zone,
        space.TermsOf(options.ReceiptsOf, catalogue));

    /// <summary>Works out an event.</summary>
    public static EvaluatedEvent Evaluate((long Version, RuleSet Set) rules, IncomingEvent found, RuleSetting setting) =>
        new(found, rules.Version, rules.Set.Apply(found, setting));

    /// <summary>Counts what rules did.</summary>
    public void Count(SpaceRuntime space, EvaluatedEvent one)
    {
        if (one.Results.Count == 0)
        {
            if (unmatched.ContainsKey((space.Id, one.Event.Type)) || unmatched.Count < MostUnmatched)
            {
                unmatched.AddOrUpdate((space.Id, one.Event.Type), 1, (_, n) => n + 1);
            }
            return;
        }
        foreach (var result in one.Results)
        {
            uses.GetOrAdd((space.Id, result.Rule.Name), _ => new RuleUse()).Matched(clock.GetUtcNow(), result.Failure);
        }
    }

    /// <summary>How often a rule was used since the service started.</summary>
    public RuleUse UseOf(SpaceRuntime space, string rule) => uses.GetValueOrDefault((space.Id, rule)) ?? new RuleUse();

    /// <summary>The types of event that no rule matched since the service started, with how many.</summary>
    public IEnumerable<(string Type, long Count)> Unmatched(SpaceRuntime space) =>
        unmatched.Where(u => u.Key.Space == space.Id).OrderByDescending(u => u.Value).Select(u => (u.Key.Type, u.Value));
}
