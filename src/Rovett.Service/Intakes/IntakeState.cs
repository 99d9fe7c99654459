namespace Rovett.Service.Intakes;

/// <summary>The states of an intake.</summary>
public enum IntakeState
{
    /// <summary>Connecting for the first time.</summary>
    Starting,
    /// <summary>Taking events.</summary>
    Running,
    /// <summary>Unable to go on now; it keeps trying.</summary>
    Waiting,
    /// <summary>Somebody paused it.</summary>
    Paused,
    /// <summary>The source is finished.</summary>
    Ended,
    /// <summary>The service is stopping.</summary>
    Stopped,
}
