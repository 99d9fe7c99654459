using System.Net.Sockets;
using System.Text.Encodings.Web;
using MailKit;
using MailKit.Net.Smtp;
using MailKit.Security;
using MimeKit;
using Rovett.Service.Spaces;

namespace Rovett.Service.Outbound;

/// <summary>An e-mail.</summary>
/// <param name="To">The mailbox it goes to.</param>
/// <param name="Title">Its subject line.</param>
/// <param name="Paragraphs">Its text.</param>
/// <param name="Link">A whole link at its end; null: none.</param>
/// <param name="Id">The same for every attempt.</param>
public sealed record Mail(string To, string Title, IReadOnlyList<string> Paragraphs, string? Link, string Id);

/// <summary>What sending an e-mail came to.</summary>
/// <param name="Failure">Why it was not taken; null: it was.</param>
/// <param name="IsFinal">Another attempt would fail as well.</param>
public sealed record MailResult(string? Failure, bool IsFinal);

/// <summary>Hands e-mails to a space's mail server (SMTP), one connection each.</summary>
public sealed class MailSender(OutboundGuard guard, TimeProvider clock)
{
    static readonly TimeSpan Timeout = TimeSpan.FromSeconds(30);

    /// <summary>Sends one.</summary>
    public async Task<MailResult> Send(MailSettings settings, Mail mail, CancellationToken cancel)
    {
        using var limited = CancellationTokenSource.CreateLinkedTokenSource(cancel);
        limited.CancelAfter(Timeout);
        try
        {
            using var message = MessageOf(settings, mail);
            using var socket = await Connect(settings, limited.Token);
            using var smtp = new SmtpClient { CheckCertificateRevocation = false, Timeout = (int)Timeout.TotalMilliseconds };
            await smtp.ConnectAsync(socket, settings.Host, settings.Port, settings.Security switch
            {
                MailSecurity.Tls => SecureSocketOptions.SslOnConnect,
                MailSecurity.StartTls => SecureSocketOptions.StartTls,
                _ => SecureSocketOptions.None,
            }, limited.Token);
            if (settings.User is { } user) await smtp.AuthenticateAsync(user, settings.Password ?? "", limited.Token);
            await smtp.SendAsync(message, limited.Token);
            await smtp.DisconnectAsync(true, CancellationToken.None);
            return new MailResult(null, false);
        }
        catch (OperationCanceledException) when (!cancel.IsCancellationRequested)
        {
            return new MailResult($"the mail server did not answer within {Timeout.TotalSeconds} s", false);
        }
        catch (SmtpCommandException error)
        {
            return new MailResult($"the mail server answered {(int)error.StatusCode} {error.Message}", (int)error.StatusCode >= 500);
        }
        catch (Exception error) when (error is IOException or SocketException or ProtocolException or AuthenticationException
            or SslHandshakeException or NotSupportedException)
        {
            return new MailResult(error.Message, false);
        }
    }

    async Task<Socket> Connect(MailSettings settings, CancellationToken cancel)
    {
        var addresses = await guard.Resolve(settings.Host, cancel);
        if (settings.Security == MailSecurity.None && !addresses.All(guard.IsNamed))
        {
            throw new OutboundRefusedException("A mail server without TLS is only taken in webhookNetworks.");
        }
        var socket = new Socket(SocketType.Stream, ProtocolType.Tcp) { NoDelay = true };
        try
        {
            await socket.ConnectAsync(addresses, settings.Port, cancel);
            return socket;
        }
        catch
        {
            socket.Dispose();
            throw;
        }
    }

    MimeMessage MessageOf(MailSettings settings, Mail mail)
    {
        var message = new MimeMessage
        {
            Subject = mail.Title,
            MessageId = $"{mail.Id}@{Core.Notifications.Mailbox.DomainOf(settings.From)}",
            Date = clock.GetUtcNow(),
        };
        message.From.Add(new MailboxAddress(settings.FromName ?? "", settings.From));
        message.To.Add(new MailboxAddress("", mail.To));
        message.Headers.Add("Auto-Submitted", "auto-generated"); // RFC 3834: nobody's holiday note is to answer it
        IEnumerable<string> text = mail.Link is null ? mail.Paragraphs : [.. mail.Paragraphs, mail.Link];
        message.Body = new BodyBuilder { TextBody = string.Join("\n\n", text) + "\n", HtmlBody = Html(mail) }.ToMessageBody();
        return message;
    }

    static string Html(Mail mail)
    {
        static string Escaped(string text) => HtmlEncoder.Default.Encode(text).Replace("&#xA;", "<br>", StringComparison.Ordinal);
        var link = mail.Link is { } to ? $"<p><a href=\"{Escaped(to)}\">{Escaped(to)}</a></p>" : "";
        return $"<!doctype html><html><head><meta charset=\"utf-8\"><title>{Escaped(mail.Title)}</title></head><body>"
            + $"<h1 style=\"font-size:1.2em\">{Escaped(mail.Title)}</h1>"
            + string.Concat(mail.Paragraphs.Select(p => $"<p>{Escaped(p)}</p>")) + link + "</body></html>\n";
    }
}
