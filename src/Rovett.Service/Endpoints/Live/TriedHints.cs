using Microsoft.Extensions.Primitives;
using Rovett.Core.Addresses;

namespace Rovett.Service.Endpoints.Live;

/// <summary>What a device says that it tried before. It helps operators and nothing depends on it, so what can't be shown is left out
/// rather than refused: a hint keeps no device out.</summary>
static class TriedHints
{
    const int Most = 4, MostCharacters = 100;

    /// <summary>Reads the first ones, each cut to what is shown.</summary>
    public static IReadOnlyList<string> Read(StringValues given)
    {
        if (given.Count == 0) return [];
        var shown = new List<string>(Most);
        foreach (var hint in given.Take(Most))
        {
            var text = hint is { Length: > MostCharacters }
                ? hint[..(MostCharacters - (char.IsHighSurrogate(hint[MostCharacters - 1]) ? 1 : 0))]
                : hint;
            if (Names.CheckLabel(text, allowSlash: true, out var label) is null) shown.Add(label);
        }
        return shown;
    }
}
