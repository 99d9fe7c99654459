using System.Text.Json;
using Rovett.Core.Addresses;
using Rovett.Core.Notifications;
using Rovett.Service.Spaces;
using Rovett.Storage.Sql;

namespace Rovett.Service.Endpoints.Backend;

/// <summary>Writes whom addresses reach; for one that nobody is known by, those that may have been meant.</summary>
readonly struct NearAddresses(SqlHistory history, SpaceRuntime space)
{
    /// <summary>Writes a member of <c>reach</c> (<see cref="ReachAnswer"/>).</summary>
    public void Write(Utf8JsonWriter json, Reach reach)
    {
        json.WriteStartObject();
        json.WriteString("address", reach.Address);
        json.WriteNumber("users", reach.Users);
        json.WriteNumber("connected", reach.Connected);
        json.WriteNumber("stored", reach.Stored);
        json.WriteBoolean("known", reach.Known);
        if (!reach.Known && Address.TryParse(reach.Address, out var address) is null)
        {
            bool role = address.Kind == AddressKind.Role;
            var near = NearNames.Among(history.NamesLike(space.Id, role, address.Name), address.Name);
            json.WriteStartArray("near");
            foreach (var name in near) json.WriteStringValue((role ? "role:" : "user:") + name);
            json.WriteEndArray();
        }
        json.WriteEndObject();
    }
}
