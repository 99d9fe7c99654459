using Microsoft.EntityFrameworkCore;
using Microsoft.EntityFrameworkCore.Storage;

namespace Rovett.Client.EntityFrameworkCore;

/// <summary>Saves what a context tracks and the events that tell of it in one transaction.</summary>
public static class OutboxSaving
{
    /// <summary>Saves the tracked changes, then adds the events to the outbox, and commits both. In a transaction that the caller began,
    /// nothing is committed here.</summary>
    /// <param name="db">A context whose database has the outbox's table. The table need not be in its model.</param>
    /// <param name="outbox">The outbox.</param>
    /// <param name="events">The events, in order.</param>
    /// <param name="cancel">Cancels the commands.</param>
    /// <returns>How many rows of the model were written.</returns>
    /// <exception cref="DbUpdateException">The changes can't be saved; neither they nor the events are committed.</exception>
    public static Task<int> SaveChangesAsync(this DbContext db, Outbox outbox, IReadOnlyList<BackendEvent> events,
        CancellationToken cancel = default) => db.SaveChangesAsync(outbox, () => events, cancel);

    /// <summary>As above, with events that are made after the changes are written: keys that the database generates are known then.</summary>
    /// <param name="db">A context whose database has the outbox's table.</param>
    /// <param name="outbox">The outbox.</param>
    /// <param name="events">Makes the events. Called again if the context's execution strategy repeats the transaction.</param>
    /// <param name="cancel">Cancels the commands.</param>
    /// <returns>How many rows of the model were written.</returns>
    /// <exception cref="DbUpdateException">The changes can't be saved; neither they nor the events are committed.</exception>
    public static async Task<int> SaveChangesAsync(this DbContext db, Outbox outbox, Func<IReadOnlyList<BackendEvent>> events,
        CancellationToken cancel = default)
    {
        if (db.Database.CurrentTransaction is { } begun) return await Save(begun, isTracked: true).ConfigureAwait(false);
        // What is tracked stays changed until the commit, so that the execution strategy can repeat all of it.
        int rows = await db.Database.CreateExecutionStrategy().ExecuteAsync(async () =>
        {
            await using var transaction = await db.Database.BeginTransactionAsync(cancel).ConfigureAwait(false);
            int saved = await Save(transaction, isTracked: false).ConfigureAwait(false);
            await transaction.CommitAsync(cancel).ConfigureAwait(false);
            return saved;
        }).ConfigureAwait(false);
        db.ChangeTracker.AcceptAllChanges();
        return rows;

        // The changes come first: their locks give events about the same thing the order of the changes.
        async Task<int> Save(IDbContextTransaction transaction, bool isTracked)
        {
            int saved = await db.SaveChangesAsync(isTracked, cancel).ConfigureAwait(false);
            foreach (var found in isTracked ? events() : Knowing(db, events))
            {
                await outbox.Add(db.Database.GetDbConnection(), transaction.GetDbTransaction(), found, cancel).ConfigureAwait(false);
            }
            return saved;
        }
    }

    /// <summary>Makes the events while the entities show what the database generated. Until the commit, only the change tracker has
    /// that.</summary>
    static IReadOnlyList<BackendEvent> Knowing(DbContext db, Func<IReadOnlyList<BackendEvent>> events)
    {
        var generated = db.ChangeTracker.Entries().Where(e => e.State is EntityState.Added or EntityState.Modified)
            .SelectMany(e => e.Properties.Where(p => p.Metadata.FieldInfo is not null)
            .Select(p => (e.Entity, Field: p.Metadata.FieldInfo!, Value: p.CurrentValue)))
            .Select(g => (g.Entity, g.Field, g.Value, Before: g.Field.GetValue(g.Entity)))
            .Where(g => !Equals(g.Value, g.Before)).ToList();
        foreach (var g in generated) g.Field.SetValue(g.Entity, g.Value);
        try
        {
            return events();
        }
        finally
        {
            foreach (var g in generated) g.Field.SetValue(g.Entity, g.Before);
        }
    }
}
