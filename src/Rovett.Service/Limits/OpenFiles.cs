using System.Globalization;

namespace Rovett.Service.Limits;

/// <summary>How many files and sockets a process may have open.</summary>
public static class OpenFiles
{
    /// <summary>Reads it; null: not known here, or another user's process.</summary>
    /// <param name="process">Its id; null: this one's.</param>
    public static long? Most(int? process = null)
    {
        try
        {
            foreach (var line in File.ReadLines($"/proc/{process?.ToString(CultureInfo.InvariantCulture) ?? "self"}/limits"))
            {
                if (!line.StartsWith("Max open files", StringComparison.Ordinal)) continue;
                var soft = line.Split(' ', StringSplitOptions.RemoveEmptyEntries).ElementAtOrDefault(3);
                return soft == "unlimited" ? long.MaxValue
                    : long.TryParse(soft, NumberStyles.None, CultureInfo.InvariantCulture, out long files) ? files : null;
            }
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException)
        {
            // Not Linux, or another user's.
        }
        return null;
    }
}
