using Rovett.Core.Events;
using Rovett.Core.Rules.Templates;
using Rovett.Core.Yaml;

namespace Rovett.Core.Rules;

/// <summary>Notifications and their templates.</summary>
public sealed partial class RuleReader
{
    const int MaxHosts = 16;

    MapPart? Notification(RuleNode node, string path)
    {
        if (node.Kind != RuleNodeKind.Map)
        {
            Add(node, path, "must be a mapping with title, body, link, data …");
            return null;
        }
        foreach (var member in node.Members)
        {
            if (member.Name is "to" or "except")
            {
                mistakes.Add(
                    RuleMistake.At(member, $"{path}.{member.Name}", $"does not belong here; write '{member.Name}' beside 'notification'"));
            }
        }
        return (MapPart)Map(node, path, inOtherwise: false);
    }

    NotificationPart Map(RuleNode node, string path, bool inOtherwise)
    {
        var members = new List<(string, NotificationPart)>();
        foreach (var member in node.Members) members.Add((member.Name, Member(member, $"{path}.{member.Name}", inOtherwise)));
        return new MapPart(members, isNotification: inOtherwise);
    }

    NotificationPart Member(RuleMember member, string path, bool inOtherwise)
    {
        var node = member.Value;
        switch (member.Name)
        {
            case "data": return Data(node, path);
            case "link" when node.Kind == RuleNodeKind.Map: return WholeLink(node, path);
            case "title" when IsScalar(node): return Filled(node, path, TextPlace.Text, MaxTitle, oneLine: true);
            case "body" when IsScalar(node): return Filled(node, path, TextPlace.Text, MaxBody);
            case "type" or "subject" or "slot" when IsScalar(node): return Filled(node, path, TextPlace.Text);
            case "link" when IsScalar(node): return Link(node, path);
            case "to" or "except" when inOtherwise: return OtherwiseAddresses(node, path);
            case "deadlines" when node.Kind == RuleNodeKind.List && !inOtherwise:
                return new ListPart([.. node.Items.Select((d, i) => Deadline(d, $"{path}[{i}]"))]);
            default: return Literal(node, path);
        }
    }

    static bool IsScalar(RuleNode node) => node.Kind is RuleNodeKind.Text or RuleNodeKind.Number or RuleNodeKind.Flag;

    NotificationPart Deadline(RuleNode node, string path)
    {
        if (node.Kind != RuleNodeKind.Map) return Literal(node, path);
        return new MapPart([.. node.Members.Select(m => (m.Name,
            m.Name == "otherwise" ? Otherwise(m.Value, $"{path}.otherwise") : Literal(m.Value, $"{path}.{m.Name}")))]);
    }

    NotificationPart Otherwise(RuleNode node, string path) => node.Kind switch
    {
        RuleNodeKind.List => new ListPart([.. node.Items.Select((item, i) => Otherwise(item, $"{path}[{i}]"))]),
        RuleNodeKind.Map when node["webhook"] is { } webhook => Webhook(node, webhook, path),
        RuleNodeKind.Map when node["email"] is not null => Mail(node, path),
        RuleNodeKind.Map => Map(node, path, inOtherwise: true),
        _ => Literal(node, path),
    };

    NotificationPart Webhook(RuleNode node, RuleNode webhook, string path)
    {
        if (IsScalar(webhook)) outbound.Add(new OutboundUse(webhook.Text, IsMail: false, webhook.Line, webhook.Column, path + ".webhook"));
        return Literal(node, path);
    }

    MapPart Mail(RuleNode node, string path) => new([.. node.Members.Select(m => (m.Name, m.Name switch
    {
        "email" when IsScalar(m.Value) => Mailbox(m.Value, path + ".email"),
        "title" when IsScalar(m.Value) => Filled(m.Value, path + ".title", TextPlace.Text, MaxTitle, oneLine: true),
        "body" when IsScalar(m.Value) => Filled(m.Value, path + ".body", TextPlace.Text, MaxBody),
        _ => Literal(m.Value, $"{path}.{m.Name}"),
    }))]);

    /// <summary>A mailbox. What an event puts into it is checked as a whole: it can become no second address.</summary>
    TextPart Mailbox(RuleNode node, string path)
    {
        if (TextTemplate.TryParse(node.Text, TextPlace.Text, out var template) is { } wrong) Add(node, path, wrong);
        outbound.Add(new OutboundUse(TextTemplate.Has(node.Text) ? null : node.Text, IsMail: true, node.Line, node.Column, path));
        return new TextPart(template, template.Sample == "x" ? "x@x" : template.Sample);
    }

    NotificationPart OtherwiseAddresses(RuleNode node, string path)
    {
        var items = node.Kind == RuleNodeKind.List ? node.Items : [node];
        var parts = new List<NotificationPart>();
        for (int i = 0; i < items.Count; i++)
        {
            if (Address(items[i], $"{path}[{i}]") is { } template) parts.Add(new TextPart(template, template.Sample));
        }
        return new ListPart(parts);
    }

    TextPart Filled(RuleNode node, string path, TextPlace place, int? cutAt = null, bool oneLine = false)
    {
        if (TextTemplate.TryParse(node.Text, place, out var template) is { } wrong) Add(node, path, wrong);
        var sample = TextPart.Finished(template.Sample, cutAt, oneLine);
        return new TextPart(template, sample.Length == 0 && TextTemplate.Has(node.Text) ? "x" : sample, cutAt, oneLine);
    }

    NotificationPart Link(RuleNode node, string path)
    {
        if (TextTemplate.TryParse(node.Text, TextPlace.Link, out var template) is { } wrong) Add(node, path, wrong);
        else if (TextTemplate.Has(node.Text))
        {
            var beginning = template.Beginning;
            bool isPath = beginning is ['/'] or ['/', not '/', ..];
            bool isAbsolute = Uri.TryCreate(beginning, UriKind.Absolute, out var uri) && uri.Scheme is "http" or "https"
                && beginning.IndexOf('/', beginning.IndexOf("//", StringComparison.Ordinal) + 2) > 0;
            if (!isPath && !isAbsolute)
            {
                Add(node, path, "must begin literally, with a path (/vessels/…) or an http(s) address and its host; for a whole link out "
                    + "of the event use { from: data:/url, hosts: [example.org] }");
            }
        }
        return new TextPart(template, template.Sample);
    }

    NotificationPart WholeLink(RuleNode node, string path)
    {
        IsMap(node, path, ["from", "hosts"]);
        DataPointer pointer = new("data:", []);
        if (node["from"] is not { } from) Add(node, path + ".from", "is missing; name the place in the data: data:/url");
        else if (DataPointer.TryParse(from.Text, out pointer) is { } wrong) Add(from, path + ".from", wrong);
        var hosts = new List<string>();
        if (node["hosts"] is not { Kind: RuleNodeKind.List } list || list.Items.Count is 0 or > MaxHosts)
        {
            Add(node["hosts"] ?? node, path + ".hosts", $"must be a list of 1 to {MaxHosts} hosts that links may lead to");
        }
        else
        {
            foreach (var host in list.Items)
            {
                if (Uri.TryCreate($"https://{host.Text}/", UriKind.Absolute, out var uri) && uri.UserInfo.Length == 0
                    && uri.PathAndQuery == "/" && host.Text.Length > 0)
                {
                    hosts.Add(host.Text);
                }
                else Add(host, path + ".hosts", $"'{host.Text}' is not a host, such as ferries.example or ferries.example:8443");
            }
        }
        return new WholeLinkPart(pointer, hosts);
    }

    NotificationPart Data(RuleNode node, string path) => DataParts.Of(node, path, (text, at) =>
    {
        if (TextTemplate.TryParse(text.Text, TextPlace.Text, out var template) is not { } wrong) return template;
        Add(text, at, wrong);
        return null;
    });

    /// <summary>Anything else is taken as it is: the reader of notifications checks it.</summary>
    NotificationPart Literal(RuleNode node, string path)
    {
        switch (node.Kind)
        {
            case RuleNodeKind.List: return new ListPart([.. node.Items.Select((item, i) => Literal(item, $"{path}[{i}]"))]);
            case RuleNodeKind.Map: return new MapPart([.. node.Members.Select(m => (m.Name, Literal(m.Value, $"{path}.{m.Name}")))]);
            default:
                if (TextTemplate.Has(node.Text)) Add(node, path, "cannot be filled in; write a fixed value");
                return new LiteralPart(node);
        }
    }
}
