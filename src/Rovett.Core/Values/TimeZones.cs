using System.Diagnostics.CodeAnalysis;

namespace Rovett.Core.Values;

/// <summary>Time zones by the names of the IANA database.</summary>
public static class TimeZones
{
    /// <summary>How an error goes on after the field's name.</summary>
    public const string Rule = "must be a time zone of the IANA database, such as Europe/Berlin or UTC";

    /// <summary>Finds one.</summary>
    public static bool TryFind(string name, [NotNullWhen(true)] out TimeZoneInfo? zone)
    {
        zone = null;
        return (name == "UTC" || name.Contains('/', StringComparison.Ordinal)) && TimeZoneInfo.TryFindSystemTimeZoneById(name, out zone);
    }
}
