using Rovett.Core.Choices;
using Rovett.Core.Store;

namespace Rovett.Core.Ledgers;

/// <summary>What a person chose to be told of, and when.</summary>
/// <param name="Mutes">What is muted.</param>
/// <param name="Quiet">The quiet hours; null: none.</param>
/// <param name="Rev">The number of the user's change that made them so; 0: nothing was ever chosen.</param>
public sealed record ChoicesState(IReadOnlyList<MuteRow> Mutes, QuietHours? Quiet, long Rev);
