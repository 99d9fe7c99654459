using Rovett.Core.Ledgers;
using Rovett.Service.Credentials;
using Rovett.Service.Options;
using Rovett.Service.Spaces;
using Rovett.Storage.Sql;

namespace Rovett.Service.Hosting;

/// <summary>Opens the spaces as they are stored; makes those that are configured and not there yet, with credentials.</summary>
sealed class FirstStart(SqlLedgerStore store, SpaceKeeper keeper, RovettOptions options, ServiceClock clock, Agendas agendas)
{
    /// <summary>Credentials created by this start, to be shown once.</summary>
    public List<FirstCredentials> Credentials { get; } = [];

    public SpaceDirectory OpenSpaces()
    {
        var spaces = new SpaceDirectory(clock);
        foreach (var row in store.Agenda()) agendas.Of(row.Space).Load(row);
        foreach (var name in store.Spaces().Concat(options.Spaces).Prepend("main").Distinct())
        {
            if (store.FindSpace(name) is not { } row)
            {
                store.Begin();
                row = store.AddSpace(name, SpaceKeeper.NewKey());
                store.Commit();
            }
            if (keeper.FirstCredentials(name) is { } made) Credentials.Add(made);
            spaces.Add(keeper.Open(row, store.PoliciesAt(row.Id, row.Head), store.CatalogueUpTo(row.Id, row.Head)));
        }
        return spaces;
    }
}
