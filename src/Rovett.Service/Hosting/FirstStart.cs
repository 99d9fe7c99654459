using Rovett.Core.Ledgers;
using Rovett.Service.Credentials;
using Rovett.Service.Ledgers;
using Rovett.Service.Options;
using Rovett.Service.Spaces;
using Rovett.Storage.Access;
using Rovett.Storage.Homes;
using Rovett.Storage.Sql;

namespace Rovett.Service.Hosting;

/// <summary>Opens the spaces as they are stored; makes those that are configured and not there yet, with credentials.</summary>
sealed class FirstStart(LaneStores stores, IStoreHome home, AccessStore access, SpaceKeeper keeper, RovettOptions options,
    ServiceClock clock, Agendas agendas)
{
    /// <summary>Credentials created by this start, to be shown once.</summary>
    public List<FirstCredentials> Credentials { get; } = [];

    public SpaceDirectory OpenSpaces()
    {
        var spaces = new SpaceDirectory(clock, areShared: options.NodeUrl is not null);
        var store = stores.First;
        foreach (var row in store.Agenda()) agendas.Of(row.Space).Load(row);
        var stored = store.OpenAll().ToDictionary(s => s.Row.Name);
        var (haveKeys, settings) = (access.SpacesWithKeys(), access.AllSettings());
        var missing = options.Spaces.Prepend("main").Distinct().Where(name => !stored.ContainsKey(name)).ToList();
        if (missing.Count > 0)
        {
            store.Begin();
            foreach (var name in missing)
            {
                var key = SpaceKeeper.NewKey();
                stored[name] = new OpenedSpace(home.AddSpace(name, key) ?? store.AddSpace(name, key), null, null);
            }
            store.Commit();
        }
        foreach (var (row, policies, types) in stored.Values)
        {
            if (!haveKeys.Contains(row.Name)) Credentials.Add(SpaceKeeper.NewCredentials(row.Name));
            spaces.Add(keeper.Open(row, policies, types, settings));
        }
        return spaces;
    }
}
