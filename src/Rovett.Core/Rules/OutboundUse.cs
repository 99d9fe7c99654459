namespace Rovett.Core.Rules;

/// <summary>A place in a rules file that names a webhook or an e-mail address.</summary>
/// <param name="Target">The webhook's name or the address; null: an address that the event gives.</param>
/// <param name="IsMail">An e-mail address, not a webhook.</param>
/// <param name="Line">Its line.</param>
/// <param name="Column">Its column.</param>
/// <param name="Field">The field.</param>
public sealed record OutboundUse(string? Target, bool IsMail, int Line, int Column, string Field);
