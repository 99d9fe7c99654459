using Rovett.Storage.Postgres;
using Rovett.Testing.Servers;
using Xunit;

namespace Rovett.Core.Tests;

/// <summary>Sessions catching up from PostgreSQL.</summary>
public sealed class PostgresCatchUpTests : CatchUpTests, IClassFixture<PostgresServer>
{
    public PostgresCatchUpTests(PostgresServer server) : this(server.NewDatabase())
    {
    }

    PostgresCatchUpTests(string database) : base(PostgresHistory.Open(database), PostgresHistory.Read(database))
    {
    }
}
