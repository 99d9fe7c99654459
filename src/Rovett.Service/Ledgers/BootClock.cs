using System.Runtime.InteropServices;
using Rovett.Core.Ledgers;

namespace Rovett.Service.Ledgers;

/// <summary>The system's clock, with elapsed time that counts a suspended machine's sleep, too (CLOCK_BOOTTIME of Linux).</summary>
public sealed partial class BootClock : TimeProvider, IElapsedTime
{
    const int ClockBootTime = 7;
    const string BootFile = "/proc/sys/kernel/random/boot_id";

    /// <inheritdoc/>
    public string Boot { get; } = File.Exists(BootFile) ? File.ReadAllText(BootFile).Trim() : Guid.NewGuid().ToString();

    /// <inheritdoc/>
    public TimeSpan Elapsed => ClockGetTime(ClockBootTime, out var time) == 0
        ? TimeSpan.FromTicks((time.Seconds * TimeSpan.TicksPerSecond) + (time.Nanoseconds / 100))
        : GetElapsedTime(0);

    [StructLayout(LayoutKind.Sequential)]
    struct TimeSpec
    {
        public nint Seconds, Nanoseconds;
    }

    [LibraryImport("libc", EntryPoint = "clock_gettime")]
    private static partial int ClockGetTime(int clock, out TimeSpec time);
}
