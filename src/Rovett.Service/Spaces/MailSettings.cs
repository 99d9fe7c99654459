namespace Rovett.Service.Spaces;

/// <summary>How a connection to a mail server is protected.</summary>
public enum MailSecurity
{
    /// <summary>TLS is agreed on after connecting (STARTTLS, RFC 3207).</summary>
    StartTls,
    /// <summary>TLS from the first byte (RFC 8314).</summary>
    Tls,
    /// <summary>Not at all; only to the networks that the operator named.</summary>
    None,
}

/// <summary>How a space sends e-mails.</summary>
public sealed record MailSettings
{
    /// <summary>The most e-mails in an hour, when it is not set.</summary>
    public const int DefaultPerHour = 100;

    /// <summary>The mail server.</summary>
    public required string Host { get; init; }
    /// <summary>Its port.</summary>
    public int Port { get; init; } = 587;
    /// <summary>How the connection is protected.</summary>
    public MailSecurity Security { get; init; }
    /// <summary>The user to sign in as; null: none.</summary>
    public string? User { get; init; }
    /// <summary>That user's password.</summary>
    public string? Password { get; init; }
    /// <summary>The mailbox that e-mails come from.</summary>
    public required string From { get; init; }
    /// <summary>The name beside it; null: none.</summary>
    public string? FromName { get; init; }
    /// <summary>The domains that e-mails may go to.</summary>
    public required IReadOnlyList<string> Domains { get; init; }
    /// <summary>The most e-mails in an hour.</summary>
    public int PerHour { get; init; } = DefaultPerHour;
    /// <summary>What relative links begin with in e-mails; null: those are left out.</summary>
    public string? LinkBase { get; init; }

    /// <summary>Whether e-mails may go to an address.</summary>
    public bool Allows(string mailbox) => Domains.Contains(Core.Notifications.Mailbox.DomainOf(mailbox), StringComparer.OrdinalIgnoreCase);
}
