namespace Rovett.Core.Delivery;

/// <summary>How long a device that acknowledges is waited for, before it is asked, and after how many questions it counts as
/// silent. Guarded by its session.</summary>
sealed class AckPatience(SessionLimits limits, TimeSpan now)
{
    TimeSpan since = now;
    int questions;

    /// <summary>It has acknowledged something, once at least: from then on it has a credit.</summary>
    public bool Acknowledges { get; private set; }

    /// <summary>It was asked and said nothing.</summary>
    public bool Silent { get; private set; }

    public void Acknowledged(TimeSpan at)
    {
        Acknowledges = true;
        Heard(at);
    }

    /// <summary>Anything at all came from it.</summary>
    public void Heard(TimeSpan at)
    {
        since = at;
        questions = 0;
        Silent = false;
    }

    /// <summary>Whether it is to be asked now, for what is outstanding.</summary>
    public bool IsOver(TimeSpan at)
    {
        if (!Acknowledges || at - since < limits.AckTimeout) return false;
        since = at;
        if (++questions > limits.QuestionsUntilSilent) Silent = true;
        return true;
    }
}
