namespace Rovett.Core.Delivery;

/// <summary>Decides when a device is asked for acknowledgements, and after how many unanswered questions it counts as
/// silent. Guarded by its session.</summary>
sealed class AckPatience(SessionLimits limits, TimeSpan now)
{
    TimeSpan since = now;
    int questions;

    /// <summary>The device has acknowledged at least once, so the credit limit applies to it.</summary>
    public bool Acknowledges { get; private set; }

    /// <summary>The device did not answer the last questions.</summary>
    public bool Silent { get; private set; }

    public void Acknowledged(TimeSpan at)
    {
        Acknowledges = true;
        Heard(at);
    }

    /// <summary>The device sent something.</summary>
    public void Heard(TimeSpan at)
    {
        since = at;
        questions = 0;
        Silent = false;
    }

    /// <summary>Whether to ask now for outstanding acknowledgements.</summary>
    public bool IsOver(TimeSpan at)
    {
        if (!Acknowledges || at - since < limits.AckTimeout) return false;
        since = at;
        if (++questions > limits.QuestionsUntilSilent) Silent = true;
        return true;
    }
}
