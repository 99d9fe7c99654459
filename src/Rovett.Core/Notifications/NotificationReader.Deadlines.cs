using System.Text.Json;
using Rovett.Core.Addresses;

namespace Rovett.Core.Notifications;

/// <content>Deadlines, and what is done otherwise.</content>
public static partial class NotificationReader
{
    static readonly string[] DeadlineFields = ["by", "within", "who", "otherwise"];

    /// <summary>The most deadlines of one notification.</summary>
    public const int MaxDeadlines = 4;

    static List<DeadlineTerms> Deadlines(JsonElement root, bool takeable, Func<string, TypeTerms> termsOf, List<FieldError> errors)
    {
        var deadlines = new List<DeadlineTerms>();
        if (!root.TryGetProperty("deadlines", out var array)) return deadlines;
        if (array.ValueKind != JsonValueKind.Array || array.GetArrayLength() is 0 or > MaxDeadlines)
        {
            errors.Add(new FieldError("deadlines",
                $"must be an array of 1 to {MaxDeadlines}, such as [{{\"by\": \"read\", \"within\": \"PT1M\"}}]"));
            return deadlines;
        }
        int i = 0;
        foreach (var item in array.EnumerateArray())
        {
            var at = $"deadlines[{i++}]";
            if (item.ValueKind != JsonValueKind.Object)
            {
                errors.Add(new FieldError(at, "must be an object"));
                continue;
            }
            foreach (var member in item.EnumerateObject())
            {
                if (JsonText.NameOf(member) is var name && !DeadlineFields.Contains(name))
                {
                    errors.Add(new FieldError($"{at}.{Cut(name)}",
                        $"is not a part of a deadline; the parts are {string.Join(", ", DeadlineFields)}"));
                }
            }
            ReceiptState? by = !item.TryGetProperty("by", out var byElement)
                ? ReceiptState.Read
                : !JsonText.TryString(byElement, out var byText) ? null
                : byText switch
                {
                    "read" => ReceiptState.Read,
                    "received" => ReceiptState.Received,
                    "handled" => ReceiptState.Handled,
                    "taken" => ReceiptState.Taken,
                    _ => null
                };
            if (by is null) errors.Add(new FieldError($"{at}.by", "must be read, received, handled or taken"));
            if (by == ReceiptState.Taken && !takeable) errors.Add(new FieldError($"{at}.by", "can only be taken where 'takeable' is set"));
            TimeSpan? within = item.TryGetProperty("within", out var time) ? Duration(time) : null;
            if (within is null)
            {
                errors.Add(new FieldError($"{at}.within",
                    "must be a duration of at least a second, such as \"1m\" or \"PT1M\" (ISO 8601)"));
            }
            var who = item.TryGetProperty("who", out var whoElement) ? JsonText.TryString(whoElement, out var whoText)
                ? whoText
                : "" : "anyone";
            if (who is not ("anyone" or "each")) errors.Add(new FieldError($"{at}.who", "must be anyone or each"));
            if (who == "each" && by == ReceiptState.Taken) errors.Add(new FieldError($"{at}.who", "can't be each: only one takes it"));
            List<Otherwise> otherwise = item.TryGetProperty("otherwise", out var next)
                ? Otherwises(next, $"{at}.otherwise", termsOf, errors) : [];
            if (by is not null && within is not null) deadlines.Add(new DeadlineTerms(by.Value, within.Value, who == "each", otherwise));
        }
        return deadlines;
    }

    static List<Otherwise> Otherwises(JsonElement node, string at, Func<string, TypeTerms> termsOf, List<FieldError> errors)
    {
        if (node.ValueKind != JsonValueKind.Array) return Otherwise(node, at, termsOf, errors) is { } one ? [one] : [];
        if (node.GetArrayLength() is 0 or > Core.Notifications.Otherwise.Most)
        {
            errors.Add(new FieldError(at, $"must be 1 to {Core.Notifications.Otherwise.Most} notifications, webhooks and e-mails"));
            return [];
        }
        return [.. node.EnumerateArray().Select((item, i) => Otherwise(item, $"{at}[{i}]", termsOf, errors)).OfType<Otherwise>()];
    }

    static Otherwise? Otherwise(JsonElement item, string at, Func<string, TypeTerms> termsOf, List<FieldError> errors)
    {
        if (item.ValueKind == JsonValueKind.Object)
        {
            if (item.TryGetProperty("webhook", out _)) return Webhook(item, at, errors);
            if (item.TryGetProperty("email", out _)) return Mail(item, at, errors);
        }
        try
        {
            var draft = Read(item, termsOf, out _);
            if (draft.Deadlines.Count > 0 || draft.Ttl is not null || draft.Slot is not null || draft.Traits.TakeFor is not null
                || item.TryGetProperty("store", out _))
            {
                errors.Add(new FieldError(at, "can only be a plain notification: no ttl, slot, store, takeable or deadlines of its own"));
            }
            return new OtherwiseNotification(draft);
        }
        catch (ProblemException wrong)
        {
            errors.AddRange(wrong.Problem.Errors.Select(e => new FieldError($"{at}.{e.Field}", e.Detail)));
            return null;
        }
    }

    static OtherwiseWebhook? Webhook(JsonElement item, string at, List<FieldError> errors)
    {
        OnlyMembers(item, at, ["webhook"], "a webhook is only named", errors);
        if (JsonText.TryString(item.GetProperty("webhook"), out var text) && Names.CheckForPath(text, out var name) is null)
        {
            return new OtherwiseWebhook(name);
        }
        errors.Add(new FieldError($"{at}.webhook", "must be the name of a webhook whose purpose is 'otherwise'"));
        return null;
    }

    static OtherwiseMail? Mail(JsonElement item, string at, List<FieldError> errors)
    {
        int before = errors.Count;
        OnlyMembers(item, at, ["email", "title", "body"], "an e-mail has email, title and body", errors);
        var inMail = new List<FieldError>();
        var title = Text(item, "title", required: false, 256, inMail, oneLine: true);
        var body = Text(item, "body", required: false, 4096, inMail, oneLine: false);
        errors.AddRange(inMail.Select(e => new FieldError($"{at}.{e.Field}", e.Detail)));
        var fault = !JsonText.TryString(item.GetProperty("email"), out var address) ? "must be an e-mail address" : Mailbox.Fault(address);
        if (fault is not null) errors.Add(new FieldError($"{at}.email", fault));
        return errors.Count > before ? null : new OtherwiseMail(address!, title, body);
    }

    static void OnlyMembers(JsonElement item, string at, string[] members, string detail, List<FieldError> errors)
    {
        foreach (var member in item.EnumerateObject())
        {
            var name = JsonText.NameOf(member);
            if (!members.Contains(name)) errors.Add(new FieldError($"{at}.{Cut(name)}", $"does not belong here; {detail}"));
        }
    }
}
