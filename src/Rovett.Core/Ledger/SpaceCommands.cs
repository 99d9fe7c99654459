namespace Rovett.Core.Ledger;

/// <summary>Makes a space.</summary>
/// <param name="name">Its name.</param>
/// <param name="key">Seals its cursors.</param>
public sealed class AddSpaceCommand(string name, byte[] key) : LedgerCommand<SpaceRow>
{
    internal override void Write(Ledger ledger)
    {
        if (ledger.Store.FindSpace(name) is not null) throw new Problem(409, "space-exists", "There is a space by that name", $"'{name}' is taken.", "Choose another name.").Throw();
        Answer = ledger.Store.AddSpace(name, key);
    }
}

/// <summary>Removes a space: every session in it ends, nobody finds it any more, and <see cref="PurgeCommand"/> lets go what
/// it stored. Answers how many sessions ended.</summary>
public sealed class RemoveSpaceCommand(string name) : LedgerCommand<int>
{
    internal override void Write(Ledger ledger)
    {
        var state = ledger.Space(name);
        foreach (var user in state.WithSessions.ToList()) Answer += Standing.EndSessions(ledger, state, user, "space-removed");
        ledger.Store.RemoveSpace(state.Id);
        ledger.Forget(name);
    }
}

/// <summary>Lets go a part of what removed spaces stored. Answers false when nothing is left of them.</summary>
public sealed class PurgeCommand(int limit = 500) : LedgerCommand<bool>
{
    internal override bool MayOnlyRead => true;

    internal override void Write(Ledger ledger) => Answer = ledger.Store.Purge(limit);
}
