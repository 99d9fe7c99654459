using Rovett.Core.Notifications;
using Rovett.Core.Rules;
using Rovett.Core.Yaml;
using Rovett.Service.Spaces;
using Rovett.Storage.Access;

namespace Rovett.Service.Outbound;

/// <summary>Whether webhooks and e-mail addresses that deadlines name can be used in a space.</summary>
public sealed class OutboundTargets(AccessStore access)
{
    /// <summary>Requires that those of a notification can.</summary>
    /// <exception cref="ProblemException">422: some cannot.</exception>
    public void Require(SpaceRuntime space, Draft draft)
    {
        if (draft.Deadlines.Count == 0) return;
        var errors = new List<FieldError>();
        for (int i = 0; i < draft.Deadlines.Count; i++)
        {
            var otherwise = draft.Deadlines[i].Otherwise;
            for (int j = 0; j < otherwise.Count; j++)
            {
                var (member, fault) = otherwise[j] switch
                {
                    OtherwiseWebhook w => ("webhook", WebhookFault(space, w.Name)),
                    OtherwiseMail m => ("email", MailFault(space, m.To)),
                    _ => ("", null),
                };
                if (fault is not null) errors.Add(new FieldError($"{draft.Deadlines[i].FieldOf(i, j)}.{member}", fault));
            }
        }
        if (errors.Count > 0) throw Problem.Invalid(errors).ToException();
    }

    /// <summary>The places in rules that name some that cannot. A space without a mail server is only warned about: the same rules
    /// can be tried where there is none.</summary>
    public IEnumerable<FieldError> Mistakes(SpaceRuntime space, RuleSet rules)
    {
        foreach (var use in rules.Outbound)
        {
            var fault = !use.IsMail ? WebhookFault(space, use.Target!) : space.Settings.Mail is null ? null : MailFault(space, use.Target);
            if (fault is not null) yield return new RuleMistake(use.Line, use.Column, use.Field, fault).ToFieldError();
        }
    }

    /// <summary>The places in rules that send e-mails, where a space has no mail server.</summary>
    public static IEnumerable<string> Warnings(SpaceRuntime space, RuleSet rules) => space.Settings.Mail is not null ? []
        : rules.Outbound.Where(u => u.IsMail).Select(u =>
            $"the e-mail in line {u.Line} would be set aside: this space has no mail server; set 'mail' (PATCH /v1/settings)");

    string? WebhookFault(SpaceRuntime space, string name) =>
        access.FindWebhook(space.Name, name) is { Purpose: StoredWebhook.ForOtherwise } ? null
        : $"names no webhook with the purpose 'otherwise': create it first (PUT /v1/webhooks/{name})";

    static string? MailFault(SpaceRuntime space, string? mailbox) =>
        space.Settings.Mail is not { } mail ? "can't be sent: this space has no mail server; set 'mail' first (PATCH /v1/settings)"
        : mailbox is null || mail.Allows(mailbox) ? null
        : $"may not go to {Mailbox.DomainOf(mailbox)}; 'mail.domains' names {string.Join(", ", mail.Domains)}";
}
