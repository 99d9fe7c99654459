using Rovett.Core.Events;
using Rovett.Core.Rules.Templates;

namespace Rovett.Core.Rules;

/// <summary>Whom a rule tells.</summary>
/// <param name="Addresses">Addresses, or the one of <see cref="Each"/> and <see cref="All"/>.</param>
/// <param name="Each">A list in the data: one notification for each of its items; null: none.</param>
/// <param name="All">A list in the data: one notification for all of its items together; null: none.</param>
sealed record Recipients(IReadOnlyList<TextTemplate> Addresses, DataPointer? Each, DataPointer? All);
