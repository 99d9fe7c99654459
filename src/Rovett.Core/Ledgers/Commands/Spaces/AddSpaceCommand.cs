using Rovett.Core.Store;

namespace Rovett.Core.Ledgers.Commands.Spaces;

/// <summary>Creates a space.</summary>
/// <param name="name">Its name.</param>
/// <param name="key">The key that seals its cursors.</param>
public sealed class AddSpaceCommand(string name, byte[] key) : LedgerCommand<SpaceRow>(null)
{
    internal override void Execute(Ledger ledger)
    {
        if (ledger.Store.FindSpace(name) is not null)
        {
            throw new Problem(409, "space-exists", "Space exists already", $"'{name}' is taken.",
                "Choose another name.").ToException();
        }
        Answer = ledger.Store.AddSpace(name, key);
    }
}
