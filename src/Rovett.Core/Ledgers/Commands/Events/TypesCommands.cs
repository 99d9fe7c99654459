using System.Text;
using Rovett.Core.Addresses;
using Rovett.Core.Catalogues;
using Rovett.Core.Notifications;
using Rovett.Core.Store;

namespace Rovett.Core.Ledgers.Commands.Events;

/// <summary>Loads a version of the catalogue of types.</summary>
/// <param name="space">The space's name.</param>
/// <param name="catalogue">The catalogue.</param>
/// <param name="document">As it is stored.</param>
/// <param name="inPlaceOf">The version that must be in force; null: any.</param>
public sealed class PutTypesCommand(string space, Catalogue catalogue, byte[] document, long? inPlaceOf)
    : LedgerCommand<RulesVersion>(space)
{
    internal override void Execute(Ledger ledger)
    {
        var state = ledger.Space(Space);
        long current = ledger.Store.CatalogueUpTo(state.Id, state.Head)?.Position ?? 0;
        if (inPlaceOf is { } expected && expected != current)
        {
            throw new Problem(412, "other-version", "Another version is in effect", $"Version {current} is in effect, not {expected}.",
                "Read the version in effect (GET /v1/types) and apply your change to it.").ToException();
        }
        var (position, time) = state.Draw();
        ledger.Store.AppendEntry(state.Id, new EntryRow(position, time, EntryKind.Types, default,
            Encoding.UTF8.GetBytes($"\"types\":{catalogue.Types.Count},\"events\":{catalogue.Events.Count}"), Addressing.None, [],
            NotificationTraits.None));
        Answer = new RulesVersion(position.Value, time, document);
        ledger.Store.AddCatalogue(state.Id, Answer);
        state.Events.Load(catalogue);
    }
}

/// <summary>The version of the catalogue in force; null: none was loaded.</summary>
/// <param name="space">The space's name.</param>
public sealed class FindTypesCommand(string space) : LedgerCommand<RulesVersion?>(space)
{
    internal override bool MayOnlyRead => true;

    internal override void Execute(Ledger ledger)
    {
        var state = ledger.Space(Space);
        Answer = ledger.Store.CatalogueUpTo(state.Id, state.Head);
    }
}
