using System.Security.Cryptography;
using System.Text;
using Microsoft.IdentityModel.JsonWebTokens;
using Microsoft.IdentityModel.Tokens;

namespace Rovett.Testing;

/// <summary>Makes tokens as a backend would, right ones and wrong ones.</summary>
public static class TestTokens
{
    static long last;

    /// <summary>A token; each one is newer than those made before, as a backend's clock would have it.</summary>
    public static string Make(string secret, string user, string[]? roles = null, TimeSpan? lifetime = null,
        Action<Dictionary<string, object>>? change = null, ECDsa? curve = null)
    {
        long micros = DateTimeOffset.UtcNow.ToUnixTimeMilliseconds() * 1000;
        long seen;
        do
        {
            seen = Interlocked.Read(ref last);
            micros = Math.Max(micros, seen + 1);
        }
        while (Interlocked.CompareExchange(ref last, micros, seen) != seen);
        var claims = new Dictionary<string, object>
        {
            ["sub"] = user,
            ["iat"] = micros / 1e6,
            ["exp"] = (DateTimeOffset.UtcNow + (lifetime ?? TimeSpan.FromHours(1))).ToUnixTimeSeconds()
        };
        if (roles is not null) claims["roles"] = roles;
        change?.Invoke(claims);
        return new JsonWebTokenHandler { SetDefaultTimesOnTokenCreation = false }.CreateToken(new SecurityTokenDescriptor
        {
            Claims = claims,
            SigningCredentials = curve is null
                ? new SigningCredentials(new SymmetricSecurityKey(Encoding.UTF8.GetBytes(secret)), SecurityAlgorithms.HmacSha256)
                : new SigningCredentials(new ECDsaSecurityKey(curve), SecurityAlgorithms.EcdsaSha256),
        });
    }
}
