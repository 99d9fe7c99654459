using System.Security.Cryptography;
using System.Text;
using System.Text.Json;
using System.Text.Json.Nodes;
using Rovett.Core.Catalogues;
using Rovett.Core.Policies;
using Rovett.Core.Store;
using Rovett.Core.Wire;
using Rovett.Service.Spaces;
using Rovett.Storage;
using Rovett.Storage.Access;

namespace Rovett.Service.Credentials;

/// <summary>Opens spaces as they are stored, and gives new ones their first credentials.</summary>
public sealed class SpaceKeeper(AccessStore access, Epoch epoch, TimeProvider clock) : IDisposable
{
    readonly List<CursorSeal> seals = [];
    readonly Lock gate = new();

    /// <summary>Opens a space.</summary>
    /// <param name="row">As it is stored.</param>
    /// <param name="policies">The policies that hold; null: none.</param>
    /// <param name="types">The catalogue that holds; null: none.</param>
    /// <param name="settings">The settings of all spaces, where they were read for all; null: they are read.</param>
    /// <exception cref="StoreException">Its settings can't be read.</exception>
    public SpaceRuntime Open(SpaceRow row, PolicyVersion? policies, RulesVersion? types = null,
        IReadOnlyDictionary<string, string>? settings = null)
    {
        CursorSeal Seal(string purpose)
        {
            var seal = new CursorSeal(row.Key, epoch, row.Name, purpose);
            lock (gate) seals.Add(seal);
            return seal;
        }
        var own = settings is null ? access.Settings(row.Name) : settings.GetValueOrDefault(row.Name);
        var space = new SpaceRuntime(row.Id, row.Name, Seal("cursor"), Seal("page"), Seal("receipts"))
        { Settings = SettingsOf(row.Name, own), ClaimPaths = ClaimPathsOf(policies) };
        if (types is not null) space.Load(types.Position, CatalogueReader.Read(types.Document, []));
        return space;
    }

    /// <summary>New first credentials for a space that has none. They count once they are kept (<see cref="Keep"/>), so that nobody is
    /// left without them.</summary>
    public static FirstCredentials NewCredentials(string name) =>
        // Shown and used as text, so that it can be pasted into any JWT library as it is.
        new(name, Secrets.New(Secrets.KeyPrefix), Secrets.New(""));

    /// <summary>Lets first credentials count, now that they were shown or written.</summary>
    public void Keep(FirstCredentials made) => access.Together(() =>
    {
        access.RemoveSigningKey(made.Space, "first");
        access.AddSigningKey(
            new StoredSigningKey(made.Space, "first", SigningKeyKind.Secret, null, Encoding.UTF8.GetBytes(made.TokenSigningSecret),
            StoredTime.From(clock.GetUtcNow()).Micros));
        new ApiKeys(access, clock).Store(made.AdminKey, made.Space, "first admin key", ["admin"]);
    });

    /// <summary>A key that seals a new space's cursors.</summary>
    public static byte[] NewKey() => RandomNumberGenerator.GetBytes(32);

    /// <summary>The claims that policies look at.</summary>
    internal static IReadOnlyList<string> ClaimPathsOf(PolicyVersion? policies)
    {
        if (policies is null) return [];
        using var document = JsonDocument.Parse(policies.Document);
        return PolicyReader.Read(document.RootElement, []).ClaimPaths;
    }

    /// <summary>A space's settings as they are stored now.</summary>
    internal SpaceSettings SettingsOf(string space) => SettingsOf(space, access.Settings(space));

    static SpaceSettings SettingsOf(string space, string? text)
    {
        if (text is null) return SpaceSettings.Default;
        var errors = new List<FieldError>();
        var settings = SpaceSettings.Read((JsonObject)JsonNode.Parse(text)!, errors);
        return errors.Count == 0
            ? settings
            : throw new StoreException($"The settings of the space '{space}' can't be read: {errors[0].Field} {errors[0].Detail}");
    }

    /// <inheritdoc/>
    public void Dispose()
    {
        foreach (var seal in seals) seal.Dispose();
    }
}
