namespace Rovett.Core.Store;

/// <summary>The answer stored for an idempotency key: SHA-256 of the request body, and the notification made.</summary>
public sealed record IdempotencyRow(byte[] BodyHash, NotificationId Id, Position Position);
