using System.Text;
using System.Text.Json;
using Rovett.Core.Choices;
using Rovett.Core.Store;
using Rovett.Core.Visibility;

namespace Rovett.Core.Wire;

/// <summary>The messages to a device that are not notifications. <c>docs/protocol.md</c> describes each.</summary>
public static class Messages
{
    /// <summary>The first message of every session.</summary>
    public static ControlMessage Opened(string session, string user, string space, ChannelList channels, Totals totals,
        string cursor, int window, int heartbeatSeconds, string transport, string device, StoredTime serverTime)
    {
        var m = new MessageBuilder("opened");
        var json = m.Writer;
        json.WriteString("session", session);
        json.WriteString("user", user);
        json.WriteString("space", space);
        json.WriteString("device", device);
        json.WriteString("transport", transport);
        WriteChannels(json, channels);
        WriteTotals(json, totals);
        json.WriteString("cursor", cursor);
        json.WriteNumber("window", window);
        json.WriteNumber("heartbeatSeconds", heartbeatSeconds);
        json.WriteString("serverTime", serverTime.ToString());
        return new ControlMessage("opened", cursor, m.Close());
    }

    /// <summary>Catch-up is over; what follows is live.</summary>
    public static ControlMessage Current(string cursor)
    {
        var m = new MessageBuilder("current");
        m.Writer.WriteString("cursor", cursor);
        return new ControlMessage("current", cursor, m.Close());
    }

    /// <summary>The user's totals, absolute.</summary>
    public static ControlMessage TotalsNow(Totals totals)
    {
        var m = new MessageBuilder("totals");
        WriteTotals(m.Writer, totals);
        return new ControlMessage("totals", null, m.Close());
    }

    /// <summary>What the user chose: all of it. Devices don't ring within the spans, unless for urgency <c>high</c> or what people
    /// are always told of.</summary>
    public static ControlMessage Choices(IReadOnlyList<MuteRow> mutes, QuietHours? quiet, IReadOnlyList<QuietSpan> spans, long rev)
    {
        var m = new MessageBuilder("choices");
        var json = m.Writer;
        json.WriteNumber("rev", rev);
        json.WriteStartArray("mutes");
        foreach (var mute in mutes)
        {
            json.WriteStartObject();
            json.WriteString(mute.IsType ? "type" : "subject", mute.Text);
            json.WriteString("since", mute.Since.ToString());
            json.WriteEndObject();
        }
        json.WriteEndArray();
        if (quiet is not null)
        {
            json.WritePropertyName("quiet");
            quiet.Write(json);
            json.WriteStartArray("quietSpans");
            foreach (var span in spans)
            {
                json.WriteStartObject();
                json.WriteString("from", StoredTime.From(span.From).ToString());
                json.WriteString("to", StoredTime.From(span.To).ToString());
                json.WriteEndObject();
            }
            json.WriteEndArray();
        }
        return new ControlMessage("choices", null, m.Close());
    }

    /// <summary>Another device of the user changed what is read.</summary>
    /// <param name="verb">True for read, false for unread again.</param>
    /// <param name="ids">The notifications, when they were named.</param>
    /// <param name="upTo">Everything up to this cursor, or null.</param>
    /// <param name="subject">Everything about this subject, or null.</param>
    /// <param name="all">Everything.</param>
    /// <param name="totals">The totals after it.</param>
    public static ControlMessage Read(bool verb, IReadOnlyList<NotificationId>? ids, string? upTo, string? subject, bool all, Totals totals)
    {
        var m = new MessageBuilder("read");
        m.Writer.WriteBoolean("unreadAgain", !verb);
        if (ids is not null)
        {
            m.Writer.WriteStartArray("ids");
            foreach (var id in ids) m.Writer.WriteStringValue(id.ToString());
            m.Writer.WriteEndArray();
        }
        if (upTo is not null) m.Writer.WriteString("upTo", upTo);
        if (subject is not null) m.Writer.WriteString("subject", subject);
        if (all) m.Writer.WriteBoolean("all", true);
        WriteTotals(m.Writer, totals);
        return new ControlMessage("read", null, m.Close());
    }

    /// <summary>The channels after a change: the whole list.</summary>
    public static ControlMessage Channels(ChannelList channels, Totals totals)
    {
        var m = new MessageBuilder("channels");
        WriteChannels(m.Writer, channels);
        WriteTotals(m.Writer, totals);
        return new ControlMessage("channels", null, m.Close()) { Channels = channels };
    }

    /// <summary>Part of what was missed can't be sent.</summary>
    /// <param name="reason"><c>new-life</c>: the cursor is not of this store's present life. <c>retention</c>: it is
    /// no longer stored. <c>catch-up</c>: it is more than a subscription is caught up with.</param>
    /// <param name="upTo">The stored time of the last that is missing; null when it is not known.</param>
    /// <param name="topic">The topic whose catch-up was cut short; null otherwise.</param>
    public static ControlMessage Gap(string reason, StoredTime? upTo, string? topic = null)
    {
        var m = new MessageBuilder("gap");
        m.Writer.WriteString("reason", reason);
        if (topic is not null) m.Writer.WriteString("topic", topic);
        if (upTo is { } time) m.Writer.WriteString("upTo", time.ToString());
        m.Writer.WriteString("detail", reason == "retention"
            ? "Some of what came after the cursor is no longer stored. What is stored follows."
            : reason == "catch-up"
            ? "More came on the topic since than a subscription is caught up with. The newest follow; who must have all follows the topic."
            : "The cursor is not of this store's present life (or of another space). What no device of yours has received follows; the " +
            "inbox has all that is stored.");
        return new ControlMessage("gap", null, m.Close());
    }

    /// <summary>A notification that is not stored: no id, no cursor, never counted.</summary>
    public static ControlMessage Ephemeral(string address, byte[] body, StoredTime time)
    {
        var m = new MessageBuilder("notification");
        m.Writer.WriteBoolean("stored", false);
        m.Writer.WriteString("to", address);
        return new ControlMessage("notification", null,
            [.. m.Open(), (byte)',', .. body, .. Encoding.UTF8.GetBytes($",\"time\":\"{time}\"}}")])
        { Shows = new ChannelContent(address, ChannelView.Content) };
    }

    /// <summary>What somebody said on a topic. Who it was is the service's word, never the device's.</summary>
    /// <param name="address">The topic's address.</param>
    /// <param name="from">The user.</param>
    /// <param name="displayName">The user's name in the directory, or null.</param>
    /// <param name="profile">What the backend lets others be shown of the user: JSON; empty: nothing.</param>
    /// <param name="data">The message: JSON.</param>
    /// <param name="time">When.</param>
    public static ControlMessage Said(string address, string from, string? displayName, string profile, byte[] data, StoredTime time)
    {
        var m = new MessageBuilder("said");
        m.Writer.WriteString("to", address);
        m.Writer.WriteString("from", from);
        if (displayName is not null) m.Writer.WriteString("displayName", displayName);
        if (profile.Length > 0)
        {
            m.Writer.WritePropertyName("profile");
            m.Writer.WriteRawValue(profile);
        }
        m.Writer.WritePropertyName("data");
        m.Writer.WriteRawValue(data);
        m.Writer.WriteString("time", time.ToString());
        return new ControlMessage("said", null, m.Close()) { Shows = new ChannelContent(address, ChannelView.Content) };
    }

    /// <summary>Presence on a channel: the whole list.</summary>
    public static ControlMessage PresenceList(string address, IReadOnlyList<PresentPerson> people) =>
        PresenceOf(address, ChannelView.People, people.Count, json => WritePeople(json, "people", people));

    /// <summary>Arrivals and departures on a channel since the last message about it.</summary>
    public static ControlMessage PresenceChange(string address, int count, IReadOnlyList<PresentPerson> arrived,
        IReadOnlyList<PresentPerson> left) =>
        PresenceOf(address, ChannelView.People, count, json =>
        {
            WritePeople(json, "arrived", arrived);
            json.WriteStartArray("left");
            foreach (var person in left) json.WriteStringValue(person.User);
            json.WriteEndArray();
        });

    /// <summary>How many are on a channel, where that is all there is to be shown.</summary>
    public static ControlMessage PresenceCount(string address, int count) => PresenceOf(address, ChannelView.Count, count, null);

    /// <summary>The session may no longer see who is on a channel.</summary>
    public static ControlMessage PresenceEnded(string address)
    {
        var m = new MessageBuilder("presence");
        m.Writer.WriteString("of", address);
        m.Writer.WriteBoolean("ended", true);
        return new ControlMessage("presence", null, m.Close());
    }

    static ControlMessage PresenceOf(string address, ChannelView shows, int count, Action<Utf8JsonWriter>? more)
    {
        var m = new MessageBuilder("presence");
        m.Writer.WriteString("of", address);
        m.Writer.WriteNumber("count", count);
        more?.Invoke(m.Writer);
        return new ControlMessage("presence", null, m.Close()) { Shows = new ChannelContent(address, shows) };
    }

    static void WritePeople(Utf8JsonWriter json, string name, IReadOnlyList<PresentPerson> people)
    {
        json.WriteStartArray(name);
        foreach (var person in people)
        {
            json.WriteStartObject();
            json.WriteString("user", person.User);
            if (person.DisplayName is { } displayName) json.WriteString("displayName", displayName);
            if (person.Profile.Length > 0)
            {
                json.WritePropertyName("profile");
                json.WriteRawValue(person.Profile);
            }
            json.WriteString("since", person.Since.ToString());
            json.WriteEndObject();
        }
        json.WriteEndArray();
    }

    /// <summary>A stored notification of a topic that a session has just subscribed to: it moves no cursor, and is not
    /// acknowledged.</summary>
    public static ControlMessage CaughtUp(EntryRow entry, string address)
    {
        var m = new MessageBuilder("notification");
        m.Writer.WriteString("id", entry.Id.ToString());
        m.Writer.WriteString("to", address);
        return new ControlMessage("notification", null,
            [.. m.Open(), (byte)',', .. entry.Body, .. Encoding.UTF8.GetBytes($",\"time\":\"{entry.Time}\",\"counted\":false}}")])
        { Shows = new ChannelContent(address, ChannelView.Content) };
    }

    /// <summary>The service waits for an acknowledgement.</summary>
    public static ControlMessage AckDue(int outstanding)
    {
        var m = new MessageBuilder("ackDue");
        m.Writer.WriteNumber("outstanding", outstanding);
        return new ControlMessage("ackDue", null, m.Close());
    }

    /// <summary>A sign of life that an EventSource can see.</summary>
    public static ControlMessage Heartbeat(StoredTime serverTime)
    {
        var m = new MessageBuilder("heartbeat");
        m.Writer.WriteString("serverTime", serverTime.ToString());
        return new ControlMessage("heartbeat", null, m.Close());
    }

    /// <summary>A message of the device was carried out.</summary>
    public static ControlMessage Done(string? requestId, Totals? totals)
    {
        var m = new MessageBuilder("done");
        if (requestId is not null) m.Writer.WriteString("requestId", requestId);
        if (totals is { } t) WriteTotals(m.Writer, t);
        return new ControlMessage("done", null, m.Close());
    }

    /// <summary>A message of the device was not carried out, or the session was not let in.</summary>
    public static ControlMessage Refused(string? requestId, Problem problem)
    {
        var m = new MessageBuilder("refused");
        if (requestId is not null) m.Writer.WriteString("requestId", requestId);
        m.Writer.WriteStartObject("problem");
        problem.WriteMembers(m.Writer);
        m.Writer.WriteEndObject();
        return new ControlMessage("refused", null, m.Close());
    }

    /// <summary>The session's credential ends soon.</summary>
    public static ControlMessage Expiring(StoredTime at)
    {
        var m = new MessageBuilder("expiring");
        m.Writer.WriteString("at", at.ToString());
        return new ControlMessage("expiring", null, m.Close());
    }

    /// <summary>The last message of a session that the service ends.</summary>
    /// <param name="reason">A short word: <c>shutdown</c>, <c>token-expired</c>, <c>too-slow</c>, …</param>
    /// <param name="comeBackWithinMs">Come back at a moment of one's own choice within this time; null: do not come
    /// back with this credential.</param>
    public static ControlMessage Ending(string reason, int? comeBackWithinMs)
    {
        var m = new MessageBuilder("ending");
        m.Writer.WriteString("reason", reason);
        if (comeBackWithinMs is { } ms) m.Writer.WriteNumber("comeBackWithinMs", ms);
        return new ControlMessage("ending", null, m.Close());
    }

    /// <summary>Writes <c>"totals":{…}</c>.</summary>
    public static void WriteTotals(Utf8JsonWriter json, Totals totals)
    {
        json.WriteStartObject("totals");
        json.WriteNumber("unread", totals.Unread);
        json.WriteString("asOf", totals.AsOf.ToString());
        json.WriteNumber("rev", totals.Rev);
        json.WriteEndObject();
    }

    static void WriteChannels(Utf8JsonWriter json, ChannelList channels)
    {
        json.WriteStartArray("channels");
        foreach (var channel in channels.All) json.WriteStringValue(channel);
        json.WriteEndArray();
        if (channels.Subscribed.Count == 0) return;
        json.WriteStartArray("subscribed");
        foreach (var channel in channels.Subscribed) json.WriteStringValue(channel);
        json.WriteEndArray();
    }
}
