using System.ComponentModel.DataAnnotations;
using System.Text.Json.Nodes;
using Microsoft.EntityFrameworkCore;
using Npgsql;
using Rovett.Client;
using Rovett.Client.EntityFrameworkCore;
using Rovett.Service.Intakes.Outbox;
using Rovett.Testing.Servers;
using Shouldly;
using Xunit;

namespace Rovett.Service.Tests.Intakes;

/// <summary>Changes of an EF Core context and the events that tell of them.</summary>
public sealed class OutboxSavingTests(PostgresServer server) : IClassFixture<PostgresServer>, IAsyncLifetime
{
    static readonly Outbox Events = new();
    readonly string database = server.NewDatabase();

    public async ValueTask InitializeAsync()
    {
        await using var connection = new NpgsqlConnection(database);
        await connection.OpenAsync();
        await using var create = new NpgsqlCommand(OutboxSql.Create("rovett_outbox", null) +
            "CREATE TABLE check_plan (id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY, vessel text NOT NULL UNIQUE)", connection);
        await create.ExecuteNonQueryAsync();
    }

    public ValueTask DisposeAsync() => default;

    Plan Open(bool repeats = false) => new(database, repeats);

    static BackendEvent Due(string text) => new("/planning/1", "engine.check.due", null, new JsonObject { ["text"] = text });

    [Theory]
    [InlineData(false)]
    [InlineData(true)]
    public async Task Changes_and_events_are_committed_together(bool repeats)
    {
        await using var plan = Open(repeats);
        var check = new Check { Vessel = "turnstone" };
        plan.Add(check);
        (await plan.SaveChangesAsync(Events, () => [Due($"check {check.Id}"), Due("second")], TestContext.Current.CancellationToken))
            .ShouldBe(1);
        check.Id.ShouldBeGreaterThan(0);
        plan.ChangeTracker.HasChanges().ShouldBeFalse();
        (await Texts(plan)).ShouldBe([$"check {check.Id}", "second"]);
    }

    [Fact]
    public async Task A_change_that_is_refused_tells_nobody()
    {
        await using var plan = Open();
        plan.AddRange(new Check { Vessel = "dunlin" }, new Check { Vessel = "dunlin" });
        await Should.ThrowAsync<DbUpdateException>(() => plan.SaveChangesAsync(Events, [Due("never")]));
        (await Texts(plan)).ShouldBeEmpty();
        (await plan.Checks.CountAsync(TestContext.Current.CancellationToken)).ShouldBe(0);
    }

    [Fact]
    public async Task An_event_that_is_refused_undoes_the_change_and_it_can_be_saved_later()
    {
        await using var plan = Open();
        plan.Add(new Check { Vessel = "knot" });
        await Should.ThrowAsync<PostgresException>(() => plan.SaveChangesAsync(new Outbox("no_such_table"), [Due("never")]));
        (await plan.Checks.CountAsync(TestContext.Current.CancellationToken)).ShouldBe(0);
        (await plan.SaveChangesAsync(Events, [Due("then")])).ShouldBe(1);
        (await plan.Checks.CountAsync(TestContext.Current.CancellationToken)).ShouldBe(1);
        (await Texts(plan)).ShouldBe(["then"]);
    }

    [Fact]
    public async Task In_a_transaction_of_the_caller_the_caller_decides()
    {
        await using var plan = Open();
        await using (await plan.Database.BeginTransactionAsync(TestContext.Current.CancellationToken))
        {
            plan.Add(new Check { Vessel = "ruff" });
            await plan.SaveChangesAsync(Events, [Due("rolled back")]);
        }
        (await Texts(plan)).ShouldBeEmpty();
    }

    static async Task<List<string>> Texts(Plan plan) =>
        await plan.Database.SqlQueryRaw<string>("SELECT event->'data'->>'text' AS \"Value\" FROM rovett_outbox ORDER BY id").ToListAsync();

    sealed class Plan(string database, bool repeats) : DbContext
    {
        public DbSet<Check> Checks => Set<Check>();

        protected override void OnConfiguring(DbContextOptionsBuilder options) =>
            options.UseNpgsql(database, npgsql => { if (repeats) npgsql.EnableRetryOnFailure(); });

        protected override void OnModelCreating(ModelBuilder model) => model.Entity<Check>(check =>
        {
            check.ToTable("check_plan");
            check.Property(c => c.Id).HasColumnName("id");
            check.Property(c => c.Vessel).HasColumnName("vessel");
        });
    }

    sealed class Check
    {
        [Key]
        public long Id { get; set; }
        public required string Vessel { get; set; }
    }
}
