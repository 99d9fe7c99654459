using System.Text.Json.Nodes;

namespace Rovett.Client;

/// <summary>Something that is done when a deadline is missed. A <see cref="Notification"/> can be given as it is.</summary>
public sealed class Otherwise
{
    readonly JsonObject json;

    Otherwise(JsonObject json) => this.json = json;

    /// <summary>Another notification is sent.</summary>
    /// <param name="notification">It: without time to live, slot, takeable and deadlines.</param>
    public static Otherwise Notify(Notification notification) => new(notification.ToJson());

    /// <summary>A webhook is called.</summary>
    /// <param name="name">Its name; its purpose is <c>otherwise</c>.</param>
    public static Otherwise Webhook(string name) => new(new JsonObject { ["webhook"] = name });

    /// <summary>An e-mail is sent.</summary>
    /// <param name="to">One mailbox, in one of the domains that the space sends to.</param>
    /// <param name="title">Its subject line; null: the title of the notification.</param>
    /// <param name="body">Its text; null: that of the notification.</param>
    public static Otherwise Email(string to, string? title = null, string? body = null)
    {
        var json = new JsonObject { ["email"] = to };
        if (title is not null) json["title"] = title;
        if (body is not null) json["body"] = body;
        return new Otherwise(json);
    }

    /// <summary>Another notification is sent.</summary>
    public static implicit operator Otherwise(Notification notification) => Notify(notification);

    internal JsonObject ToJson() => (JsonObject)json.DeepClone();
}
