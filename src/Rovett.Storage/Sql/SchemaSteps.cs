using System.Reflection;

namespace Rovett.Storage.Sql;

/// <summary>The steps that bring a store to the present schema, by the names of their scripts.</summary>
static class SchemaSteps
{
    static readonly string Version = Assembly.GetExecutingAssembly().GetName().Version?.ToString(3) ?? "";

    /// <summary>The names of the scripts in folders of this assembly.</summary>
    /// <param name="folders">Such as <c>Sqlite.Migrations</c>.</param>
    public static IReadOnlyList<string> In(params string[] folders) =>
        [.. Assembly.GetExecutingAssembly().GetManifestResourceNames()
            .Where(name => Array.Exists(folders, f => name.Contains($".{f}.", StringComparison.Ordinal))).Select(FileOf).Order()];

    /// <summary>The steps of this version that a store has not had.</summary>
    /// <param name="known">What this version knows.</param>
    /// <param name="had">What the store has noted.</param>
    public static IReadOnlyList<string> Missing(IReadOnlyList<string> known, IEnumerable<string> had) =>
        [.. known.Except(had.Select(FileOf))];

    /// <summary>Refuses a store that a newer version has changed: this one would not understand what it finds, or lose it.</summary>
    /// <param name="known">What this version knows.</param>
    /// <param name="had">What the store has noted.</param>
    /// <param name="store">The store, as people know it.</param>
    /// <exception cref="StoreException">It has had a step that this version does not know.</exception>
    public static void RefuseNewer(IReadOnlyList<string> known, IEnumerable<string> had, string store)
    {
        var newer = had.Select(FileOf).Except(known).Order().ToList();
        if (newer.Count == 0) return;
        throw new StoreException($"{store} was upgraded by a newer version: it has the schema " +
            $"{Path.GetFileNameWithoutExtension(newer[^1])}, " +
            $"and this version, {Version}, ends at {Path.GetFileNameWithoutExtension(known[^1])}. Nothing was changed. Start the newer " +
            "version, or go back to a backup from before the upgrade (rovett store restore).");
    }

    // Rovett.Storage.Sqlite.Migrations.0017-lanes.sql: the folder may have been another.
    static string FileOf(string script) => string.Join('.', script.Split('.')[^2..]);
}
