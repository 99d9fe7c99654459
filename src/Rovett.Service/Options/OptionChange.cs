using System.Collections;
using System.Globalization;

namespace Rovett.Service.Options;

/// <summary>A setting that can change while the service runs.</summary>
[AttributeUsage(AttributeTargets.Property)]
public sealed class AtRunTimeAttribute : Attribute;

/// <summary>A setting that differs from the one before.</summary>
/// <param name="Name">Its name in the file.</param>
/// <param name="Before">What it was; a list with commas.</param>
/// <param name="After">What it is.</param>
/// <param name="IsTakenUp">It holds from now on; otherwise from the next start.</param>
public sealed record OptionChange(string Name, string Before, string After, bool IsTakenUp)
{
    /// <summary>The value of a setting as a text.</summary>
    public static string Shown(object? value) => value switch
    {
        null => "",
        bool b => b ? "true" : "false",
        IEnumerable list and not string => string.Join(", ", list.Cast<object>()),
        _ => Convert.ToString(value, CultureInfo.InvariantCulture)!,
    };
}
