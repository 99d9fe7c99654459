using System.Security.Cryptography;
using System.Text;

namespace Rovett.Core.Ledgers;

/// <summary>Hides the ids of erased people.</summary>
static class Tombstones
{
    /// <summary>The hash of an id under this space's key.</summary>
    public static byte[] Hash(byte[] key, string userId) => HMACSHA256.HashData(key, Encoding.UTF8.GetBytes(userId))[..16];
}
