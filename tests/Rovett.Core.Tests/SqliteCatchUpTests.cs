using Rovett.Storage.Sqlite;

namespace Rovett.Core.Tests;

/// <summary>Sessions catching up from a data folder.</summary>
public sealed class SqliteCatchUpTests : CatchUpTests
{
    readonly string folder;

    public SqliteCatchUpTests() : this(Directory.CreateTempSubdirectory("rovett-catch-up-").FullName)
    {
    }

    SqliteCatchUpTests(string folder)
        : base(SqliteFiles.OpenHistory(Path.Combine(folder, "history.db")), SqliteFiles.ReadHistory(Path.Combine(folder, "history.db"))) =>
        this.folder = folder;

    public override void Dispose()
    {
        base.Dispose();
        Directory.Delete(folder, recursive: true);
    }
}
