using System.Text;
using Rovett.Core.Addresses;
using Rovett.Core.Notifications;
using Rovett.Core.Rules;
using Rovett.Core.Store;

namespace Rovett.Core.Ledgers.Commands.Events;

/// <summary>Loads a version of the rules, all or nothing, with the catalogue beside them if there is one. Open gatherings stay.</summary>
/// <param name="space">The space's name.</param>
/// <param name="rules">The rules.</param>
/// <param name="document">As they are stored.</param>
/// <param name="inPlaceOf">The version that must be in force; null: any.</param>
public sealed class PutRulesCommand(string space, RuleSet rules, byte[] document, long? inPlaceOf) : LedgerCommand<RulesVersion>(space)
{
    internal override void Execute(Ledger ledger)
    {
        var state = ledger.Space(Space);
        if (inPlaceOf is { } expected && expected != state.Events.Current.Version)
            throw new Problem(412, "other-version", "Another version is in effect",
                $"Version {state.Events.Current.Version} is in effect, not {expected}.",
                "Read the version in effect (GET /v1/rules) and apply your change to it.").ToException();
        var (position, time) = state.Draw();
        ledger.Store.AppendEntry(state.Id, new EntryRow(position, time, EntryKind.Rules, default,
            Encoding.UTF8.GetBytes($"\"rules\":{rules.All.Count}"), Addressing.None, [], NotificationTraits.None));
        Answer = new RulesVersion(position.Value, time, document);
        ledger.Store.AddRules(state.Id, Answer);
        if (rules.Catalogue is { } catalogue)
        {
            ledger.Store.AddCatalogue(state.Id, Answer);
            state.Events.Load(catalogue);
        }
        state.Events.Load(position.Value, rules);
    }
}

/// <summary>A version of the rules; null: none were loaded.</summary>
/// <param name="space">The space's name.</param>
/// <param name="version">The version, or the newest before it; null: the one in force.</param>
public sealed class FindRulesCommand(string space, long? version = null) : LedgerCommand<RulesVersion?>(space)
{
    internal override bool MayOnlyRead => true;

    internal override void Execute(Ledger ledger)
    {
        var state = ledger.Space(Space);
        Answer = ledger.Store.RulesUpTo(state.Id, version ?? state.Head);
    }
}
