using System.Collections.Concurrent;
using Fluid;

namespace Rovett.Core.Rules.Templates;

/// <summary>The templates' options, one for each time zone.</summary>
static class RuleTemplates
{
    static readonly ConcurrentDictionary<TimeZoneInfo, TemplateOptions> Options = new();

    /// <summary>Those of a zone.</summary>
    public static TemplateOptions OptionsIn(TimeZoneInfo zone) => Options.GetOrAdd(zone, TemplateFilters.Options);
}
