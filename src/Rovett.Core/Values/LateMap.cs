using System.Collections;
using System.Diagnostics.CodeAnalysis;

namespace Rovett.Core.Values;

/// <summary>A map by name that takes no room until there is something in it: one of each kind belongs to every user or session, and most
/// of them stay empty. Held in a field, and handed out by reference.</summary>
struct LateMap<TValue> : IEnumerable<KeyValuePair<string, TValue>>
{
    Dictionary<string, TValue>? map;

    /// <summary>How many there are.</summary>
    public readonly int Count => map?.Count ?? 0;

    /// <summary>The names.</summary>
    public readonly IReadOnlyCollection<string> Keys => map is null ? [] : map.Keys;

    /// <summary>What stands for a name.</summary>
    public TValue this[string name]
    {
        readonly get => map is null ? throw new KeyNotFoundException(name) : map[name];
        set => Whole()[name] = value;
    }

    /// <summary>All of it, to be changed.</summary>
    public Dictionary<string, TValue> Whole() => map ??= [];

    /// <summary>Whether there is something by a name.</summary>
    public readonly bool ContainsKey(string name) => map?.ContainsKey(name) == true;

    /// <summary>Looks a name up.</summary>
    public readonly bool TryGetValue(string name, [MaybeNullWhen(false)] out TValue value)
    {
        if (map is not null) return map.TryGetValue(name, out value);
        value = default;
        return false;
    }

    /// <summary>Takes a name out.</summary>
    public readonly bool Remove(string name) => map?.Remove(name) == true;

    /// <summary>Takes a name out, and answers what stood for it.</summary>
    public readonly bool Remove(string name, [MaybeNullWhen(false)] out TValue value)
    {
        if (map is not null) return map.Remove(name, out value);
        value = default;
        return false;
    }

    /// <summary>Takes everything out.</summary>
    public readonly void Clear() => map?.Clear();

    /// <inheritdoc/>
    public readonly IEnumerator<KeyValuePair<string, TValue>> GetEnumerator() =>
        map is null ? Enumerable.Empty<KeyValuePair<string, TValue>>().GetEnumerator() : map.GetEnumerator();

    readonly IEnumerator IEnumerable.GetEnumerator() => GetEnumerator();
}
