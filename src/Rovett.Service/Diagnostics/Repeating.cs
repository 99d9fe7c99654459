namespace Rovett.Service.Diagnostics;

/// <summary>Work that is done again and again. One round never overlaps the next, and one that throws is told and does
/// not end the others.</summary>
public sealed class Repeating : IDisposable
{
    readonly string name;
    readonly Func<Task> work;
    readonly Faults faults;
    readonly ITimer timer;
    int running;

    /// <summary>Begins, the first round after one interval.</summary>
    /// <param name="name">Its name in fault messages.</param>
    /// <param name="interval">From the start of one round to the next; one that lasts longer is waited for.</param>
    /// <param name="clock">Runs the timer.</param>
    /// <param name="faults">Hears what a round throws.</param>
    /// <param name="work">One round.</param>
    public Repeating(string name, TimeSpan interval, TimeProvider clock, Faults faults, Func<Task> work)
    {
        (this.name, this.work, this.faults) = (name, work, faults);
        timer = clock.CreateTimer(static me => _ = ((Repeating)me!).Round(), this, interval, interval);
    }

    async Task Round()
    {
        if (Interlocked.Exchange(ref running, 1) == 1) return;
        try
        {
            await work();
        }
        catch (Exception error)
        {
            faults.Thrown(null, name, error);
        }
        finally
        {
            Volatile.Write(ref running, 0);
        }
    }

    /// <inheritdoc/>
    public void Dispose() => timer.Dispose();
}
