namespace Rovett.Core.Store;

/// <summary>What there is to do in a space, as stored.</summary>
/// <param name="Space">The space's name.</param>
/// <param name="NextDue">The earliest due work; null: none.</param>
/// <param name="Oldest">When the oldest entry or receipt was stored; null: there is none.</param>
/// <param name="Stored">Entries stored.</param>
/// <param name="IsErasing">An erasure is under way.</param>
/// <param name="HasOutbound">Webhook calls or e-mails wait.</param>
public sealed record AgendaRow(string Space, StoredTime? NextDue, StoredTime? Oldest, long Stored, bool IsErasing, bool HasOutbound);
