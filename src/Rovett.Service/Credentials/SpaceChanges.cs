using Rovett.Core.Catalogues;
using Rovett.Service.Spaces;
using Rovett.Storage.Sql;

namespace Rovett.Service.Credentials;

/// <summary>Reloads what is known about spaces after another process may have changed it.</summary>
public sealed class SpaceChanges(SpaceDirectory spaces, SpaceKeeper keeper, SigningKeys signing, SqlHistory history)
{
    /// <summary>The settings of a space; null: of all.</summary>
    public void ReadSettings(string? name)
    {
        foreach (var space in Named(name))
        {
            lock (space)
            {
                space.Settings = keeper.SettingsOf(space.Name);
                signing.ForgetVerified(space.Name);
            }
        }
    }

    /// <summary>What tokens of a space (null: of any) are read for, by its policies.</summary>
    public async Task ReadPolicies(string? name)
    {
        foreach (var space in Named(name))
        {
            await space.PolicyTurn.WaitAsync();
            try
            {
                var paths = SpaceKeeper.ClaimPathsOf(history.OpenedSpaceOf(space.Id)?.Policies);
                if (paths.SequenceEqual(space.ClaimPaths)) continue;
                space.ClaimPaths = paths;
                signing.ForgetVerified(space.Name);
            }
            finally
            {
                space.PolicyTurn.Release();
            }
        }
    }

    /// <summary>The catalogue of types of a space; null: of all.</summary>
    public void ReadTypes(string? name)
    {
        foreach (var space in Named(name))
        {
            if (history.OpenedSpaceOf(space.Id)?.Types is { } types && types.Position > space.Types.Version)
            {
                space.Load(types.Position, CatalogueReader.Read(types.Document, []));
            }
        }
    }

    List<SpaceRuntime> Named(string? name) => [.. spaces.All.Where(s => name is null || s.Name == name)];
}
