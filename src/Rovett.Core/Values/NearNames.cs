namespace Rovett.Core.Values;

/// <summary>Finds the names a misspelt one may have meant.</summary>
public static class NearNames
{
    /// <summary>At most three of <paramref name="known"/> that are at most two slips away, nearest first.</summary>
    public static IReadOnlyList<string> Among(IEnumerable<string> known, string name)
    {
        int limit = name.Length <= 3 ? 1 : 2;
        return [.. known.Select(k => (Name: k, Slips: Slips(k.ToLowerInvariant(), name.ToLowerInvariant())))
            .Where(k => k.Slips <= limit && k.Name != name).OrderBy(k => k.Slips).ThenBy(k => k.Name, StringComparer.Ordinal).Take(3)
            .Select(k => k.Name)];
    }

    /// <summary>Letters put in, left out, changed or swapped between two names (Damerau–Levenshtein, adjacent swaps).</summary>
    static int Slips(string a, string b)
    {
        if (Math.Abs(a.Length - b.Length) > 2) return 3;
        var table = new int[a.Length + 1, b.Length + 1];
        for (int i = 0; i <= a.Length; i++) table[i, 0] = i;
        for (int j = 0; j <= b.Length; j++) table[0, j] = j;
        for (int i = 1; i <= a.Length; i++)
        {
            for (int j = 1; j <= b.Length; j++)
            {
                int cost = a[i - 1] == b[j - 1] ? 0 : 1;
                table[i, j] = Math.Min(Math.Min(table[i - 1, j] + 1, table[i, j - 1] + 1), table[i - 1, j - 1] + cost);
                if (i > 1 && j > 1 && a[i - 1] == b[j - 2] && a[i - 2] == b[j - 1])
                {
                    table[i, j] = Math.Min(table[i, j], table[i - 2, j - 2] + 1);
                }
            }
        }
        return table[a.Length, b.Length];
    }
}
