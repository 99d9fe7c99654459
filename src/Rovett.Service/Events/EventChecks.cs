using Rovett.Core.Events;
using Rovett.Service.Spaces;
using Rovett.Storage.Sql;

namespace Rovett.Service.Events;

/// <summary>Checks events against the catalogue of types.</summary>
public sealed class EventChecks(SqlHistory history)
{
    /// <summary>Requires that an event is as the catalogue says. A repeat is answered as the event was then.</summary>
    /// <exception cref="ProblemException">422: it is not.</exception>
    public void RequireFits(SpaceRuntime space, IncomingEvent found)
    {
        var mistakes = space.Types.Catalogue.MistakesIn(found.Type, found.Data, space.Settings.StrictTypes);
        if (mistakes.Count == 0) return;
        if (history.Event(space.Id, found.Source, found.Id) is { } earlier && earlier.Hash.AsSpan().SequenceEqual(found.Hash)) return;
        throw Problem.Invalid(mistakes, $"Send the event as its type says: GET {space.PathPrefix}/v1/types.").ToException();
    }
}
