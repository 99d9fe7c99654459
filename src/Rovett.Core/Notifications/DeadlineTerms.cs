using System.Globalization;

namespace Rovett.Core.Notifications;

/// <summary>The state a notification must reach, for whom, within what time.</summary>
/// <param name="By">Received, handled, read or taken.</param>
/// <param name="Within">After it was stored.</param>
/// <param name="Each">True: every recipient must reach the state. False: one of them is enough.</param>
/// <param name="Otherwise">What is done when it is missed; empty: nothing.</param>
public sealed record DeadlineTerms(ReceiptState By, TimeSpan Within, bool Each, IReadOnlyList<Otherwise> Otherwise)
{
    /// <summary>How something that it does is named in mistakes: a single one without a number, as it is mostly written.</summary>
    /// <param name="number">The deadline's number.</param>
    /// <param name="item">The number of what it does.</param>
    public string FieldOf(int number, int item) => string.Create(CultureInfo.InvariantCulture,
        $"deadlines[{number}].otherwise{(Otherwise.Count == 1 ? "" : $"[{item}]")}");
}
