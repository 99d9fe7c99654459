using System.Buffers;
using System.Collections.Concurrent;
using System.Text.Json;
using Rovett.Core.Ledgers;
using Rovett.Core.Ledgers.Commands.Life;
using Rovett.Core.Store;
using Rovett.Service.Diagnostics;
using Rovett.Service.Http;
using Rovett.Service.Ledgers;
using Rovett.Service.Spaces;
using Rovett.Storage.Access;

namespace Rovett.Service.Outbound;

/// <summary>Makes the webhook calls and sends the e-mails of missed deadlines: at least once, with the same id, tried again until
/// they are taken, the state is reached, or three days have passed; what would fail again is set aside.</summary>
public sealed class OutboundSender : IDisposable
{
    const int MostAtOnce = 32;
    static readonly TimeSpan Interval = TimeSpan.FromMilliseconds(250), GivenUpAfter = TimeSpan.FromDays(3),
        MailPause = TimeSpan.FromMinutes(1);

    readonly LedgerPump ledger;
    readonly SpaceDirectory spaces;
    readonly AccessStore access;
    readonly OutboundNews news;
    readonly WebhookCall webhooks;
    readonly MailSender mails;
    readonly ServiceClock clock;
    readonly Faults faults;
    readonly ILogger log;
    readonly Repeating rounds;
    readonly CancellationTokenSource stop = new();
    readonly ConcurrentDictionary<(string Space, long Number), bool> underWay = new(); // whether it is an e-mail

    /// <summary>Begins with what is stored.</summary>
    public OutboundSender(LedgerPump ledger, SpaceDirectory spaces, AccessStore access, OutboundNews news, WebhookCall webhooks,
        MailSender mails, ServiceClock clock, Faults faults, Agendas agendas, ILogger<OutboundSender> log)
    {
        (this.ledger, this.spaces, this.access, this.news, this.webhooks, this.mails) = (ledger, spaces, access, news, webhooks, mails);
        (this.clock, this.faults, this.log) = (clock, faults, log);
        foreach (var space in spaces.Here.Where(s => agendas.Of(s.Name).HasOutbound)) news.Tell(space.Name);
        rounds = new Repeating(nameof(OutboundSender), Interval, clock, faults, Round);
    }

    async Task Round()
    {
        foreach (var space in spaces.Here)
        {
            if (!news.Take(space.Name, clock.Due.Micros)) continue;
            try
            {
                await Begin(space);
            }
            catch (Exception error) when (error is ProblemException || LedgerPump.IsStoreFailure(error))
            {
                news.Tell(space.Name); // the next round tries again
            }
        }
    }

    async Task Begin(SpaceRuntime space)
    {
        var work = await ledger.Ask(new OutboundWorkCommand(space.Name, MostAtOnce));
        if (work.Next is { } next && next > TimeSpan.Zero) news.Next(space.Name, clock.Due.Micros + (long)next.TotalMicroseconds);
        long mailsLeft = (space.Settings.Mail?.PerHour ?? 0) - work.MailsInHour
            - underWay.Count(u => u.Key.Space == space.Name && u.Value);
        foreach (var row in work.Rows)
        {
            var detail = JsonElement.Parse(row.Detail);
            bool isMail = detail.TryGetProperty("email", out _);
            if (underWay.ContainsKey((space.Name, row.Number))) continue;
            if (isMail && space.Settings.Mail is { } settings && mailsLeft-- <= 0)
            {
                await ledger.Ask(new SettleOutboundCommand(space.Name, row.Number, new OutboundResult(
                    $"waits: {settings.PerHour} e-mails were sent within the last hour (mail.perHour)", MailPause, IsAttempt: false)));
                news.Tell(space.Name);
                continue;
            }
            underWay[(space.Name, row.Number)] = isMail;
            _ = Attempt(space, row, detail);
        }
    }

    async Task Attempt(SpaceRuntime space, OutboundRow row, JsonElement detail)
    {
        try
        {
            OutboundResult result;
            try
            {
                result = detail.TryGetProperty("webhook", out var webhook) ? await Call(space, row, detail, webhook.GetString()!)
                    : await Send(space, row, detail);
            }
            catch (Exception error) when (error is not OperationCanceledException)
            {
                faults.Bug(space.Name, nameof(OutboundSender), error);
                result = new OutboundResult("it could not be sent: a bug, see the service's log", OutboundPause.After(row.Attempts, null));
            }
            await ledger.Ask(new SettleOutboundCommand(space.Name, row.Number, Bounded(row, result)));
        }
        catch (Exception error) when (error is OperationCanceledException or ProblemException || LedgerPump.IsStoreFailure(error)
            || (error is ObjectDisposedException && stop.IsCancellationRequested))
        {
            // It is stored, and made again: after the restart, or by the next round.
        }
        catch (Exception error)
        {
            faults.Thrown(space.Name, nameof(OutboundSender), error);
        }
        finally
        {
            underWay.TryRemove((space.Name, row.Number), out _);
            news.Tell(space.Name);
        }
    }

    OutboundResult Bounded(OutboundRow row, OutboundResult result) =>
        result.Again is not null && clock.Due.Micros - row.Begun.Micros > (long)GivenUpAfter.TotalMicroseconds
            ? new OutboundResult($"{result.Failure!.TrimEnd('.')}; given up after {GivenUpAfter.TotalDays:0} days", null) : result;

    async Task<OutboundResult> Call(SpaceRuntime space, OutboundRow row, JsonElement detail, string name)
    {
        if (access.FindWebhook(space.Name, name) is not { Purpose: StoredWebhook.ForOtherwise } webhook)
        {
            return new OutboundResult($"no webhook with the purpose 'otherwise' is called '{name}'", null);
        }
        if (webhook.Ended is not null) return new OutboundResult($"the webhook '{name}' asked not to be called again (410)", null);
        var result = await webhooks.Post(webhook.Url, webhook.Secret, detail.GetProperty("id").GetString()!, Body(detail), stop.Token);
        long now = StoredTime.From(clock.GetUtcNow()).Micros;
        access.MoveWebhook(webhook with
        {
            Failures = result.Failure is null ? 0 : webhook.Failures + 1,
            Error = result.Failure,
            Tried = now,
            Ended = result.IsGone ? now : null,
        });
        if (result.Failure is not { } failure) return new OutboundResult(null, null);
        log.LogWarning("The webhook {Name} of the space {Space} {Failure} (attempt {Attempt})", name, space.Name, failure,
            row.Attempts + 1);
        return result.IsGone ? new OutboundResult($"the webhook '{name}' asked not to be called again (410)", null)
            : new OutboundResult($"the webhook '{name}' {failure}", OutboundPause.After(row.Attempts, result.Asked));
    }

    static byte[] Body(JsonElement detail)
    {
        var buffer = new ArrayBufferWriter<byte>();
        using (var json = new Utf8JsonWriter(buffer, Json.Writing))
        {
            json.WriteStartObject();
            json.WriteString("type", "deadline.missed");
            json.WriteString("timestamp", detail.GetProperty("missed").GetString());
            json.WriteStartObject("data");
            foreach (var member in new[] { "space", "deadline", "notification" })
            {
                json.WritePropertyName(member);
                detail.GetProperty(member).WriteTo(json);
            }
            json.WriteEndObject();
            json.WriteEndObject();
        }
        return buffer.WrittenSpan.ToArray();
    }

    async Task<OutboundResult> Send(SpaceRuntime space, OutboundRow row, JsonElement detail)
    {
        if (space.Settings.Mail is not { } settings) return new OutboundResult("the space has no settings for e-mail (mail)", null);
        var to = detail.GetProperty("email").GetString()!;
        if (!settings.Allows(to))
        {
            return new OutboundResult($"e-mails may not go to {Core.Notifications.Mailbox.DomainOf(to)}; mail.domains names " +
                string.Join(", ", settings.Domains), null);
        }
        var result = await mails.Send(settings, MailTexts.Of(detail, settings, space.Settings.Zone), stop.Token);
        if (result.Failure is not { } failure) return new OutboundResult(null, null);
        log.LogWarning("An e-mail of the space {Space} could not be sent: {Failure} (attempt {Attempt})", space.Name, failure,
            row.Attempts + 1);
        return new OutboundResult(failure, result.IsFinal ? null : OutboundPause.After(row.Attempts, null));
    }

    /// <inheritdoc/>
    public void Dispose()
    {
        rounds.Dispose();
        stop.Cancel();
        stop.Dispose();
    }
}
