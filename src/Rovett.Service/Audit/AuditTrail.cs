using System.Buffers;
using System.Globalization;
using System.Text;
using System.Text.Json;
using Rovett.Core.Notifications;
using Rovett.Service.Http;
using Rovett.Storage.Sql;
using Rovett.Storage.Access;

namespace Rovett.Service.Audit;

/// <summary>The audit log: appended to, never changed, without secrets.</summary>
public sealed class AuditTrail(AccessStore store, TimeProvider clock)
{
    /// <summary>Adds a line.</summary>
    /// <param name="space">The space.</param>
    /// <param name="actor">Who: <c>key:…</c>, <c>operator:…</c>, <c>service</c>.</param>
    /// <param name="act">What: <c>api-key.made</c>.</param>
    /// <param name="about">To what.</param>
    /// <param name="detail">Writes members of the detail.</param>
    public void Note(string space, string actor, string act, string about, Action<Utf8JsonWriter>? detail = null)
    {
        var buffer = new ArrayBufferWriter<byte>();
        using (var json = new Utf8JsonWriter(buffer, Json.Writing))
        {
            json.WriteStartObject();
            detail?.Invoke(json);
            json.WriteEndObject();
        }
        store.AddAct(space, StoredTime.From(clock.GetUtcNow()).Micros, actor, act, about, Encoding.UTF8.GetString(buffer.WrittenSpan));
    }

    /// <summary>How a user is named in the trail: by number, so that one who is erased leaves no name in it.</summary>
    public static string Person(long number) => "person:" + number.ToString(CultureInfo.InvariantCulture);

    /// <summary>People are in the trail by number, and are named when it is read.</summary>
    internal static string Named(string who, SqlHistory history) =>
        who.StartsWith("person:", StringComparison.Ordinal)
        ? "user:" + ErasedName.Shown(history.NameOf(long.Parse(who.AsSpan(7), CultureInfo.InvariantCulture)) ?? "")
        : who;

    /// <summary>The newest lines, newest first.</summary>
    public IReadOnlyList<StoredAct> Newest(string space, int most) => store.NewestActs(space, most);

    /// <summary>Lines after one of them, oldest first.</summary>
    public IReadOnlyList<StoredAct> After(string space, long id, int most) => store.Acts(space, id, most);
}
