namespace Rovett.Core.Notifications;

/// <summary>Something that is done when a deadline is missed.</summary>
public abstract record Otherwise
{
    /// <summary>The most for one deadline.</summary>
    public const int Most = 8;
}

/// <summary>Another notification is sent.</summary>
/// <param name="Draft">The notification.</param>
public sealed record OtherwiseNotification(Draft Draft) : Otherwise;

/// <summary>A webhook is called.</summary>
/// <param name="Name">Its name.</param>
public sealed record OtherwiseWebhook(string Name) : Otherwise;

/// <summary>An e-mail is sent.</summary>
/// <param name="To">The mailbox it goes to.</param>
/// <param name="Title">Its subject line; null: the title of the notification.</param>
/// <param name="Body">Its text; null: that of the notification.</param>
public sealed record OtherwiseMail(string To, string? Title, string? Body) : Otherwise;
