using Rovett.Core.Events;
using Rovett.Service.Events;

namespace Rovett.Service.Intakes;

/// <summary>A kind of source with its settings, such as a queue of a broker.</summary>
public interface IIntakeKind
{
    /// <summary>Its name in the file of intakes: <c>outbox</c>.</summary>
    string Word { get; }

    /// <summary>Where it takes events from, for people to read; without secrets.</summary>
    string From { get; }

    /// <summary>Whether the source may deliver an event again that only its source and id can identify as a repeat.</summary>
    bool NeedsRepeats { get; }

    /// <summary>Creates a source without connecting.</summary>
    IIntakeSource Open(Inlet inlet);

    /// <summary>Reads an event as the source delivered it.</summary>
    /// <param name="raw">The event as it came.</param>
    /// <param name="now">The time of an event that names none.</param>
    /// <param name="zone">The time zone for times in texts.</param>
    /// <exception cref="ProblemException">It is not an event.</exception>
    IncomingEvent Read(RawEvent raw, DateTimeOffset now, TimeZoneInfo zone) => EventReader.Raw(raw);
}

/// <summary>One connection to a source, from its start to its end.</summary>
public interface IIntakeSource : IAsyncDisposable
{
    /// <summary>Connects and hands events over until it is told to stop; it then finishes its current batch. The source is told that
    /// an event was taken only after <see cref="Inlet.Take"/> has returned.</summary>
    /// <param name="drain">Cancelled when nothing more is to be fetched.</param>
    /// <exception cref="IntakeFailure">The source can't be used now.</exception>
    Task Run(CancellationToken drain);

    /// <summary>Checks that the source can be used, without taking anything.</summary>
    /// <returns>What was found, one sentence each.</returns>
    /// <exception cref="IntakeFailure">It can't be used.</exception>
    Task<IReadOnlyList<string>> Test(CancellationToken stop);

    /// <summary>Whether something thrown means that the source can't be used now. Anything else is a bug.</summary>
    bool IsFailure(Exception error);
}

/// <summary>A source that can't be used now.</summary>
/// <param name="detail">The reason, and what to do about it.</param>
/// <param name="cause">What was thrown, if anything.</param>
public sealed class IntakeFailure(string detail, Exception? cause = null) : Exception(detail, cause);
