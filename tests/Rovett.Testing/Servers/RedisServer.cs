using System.Diagnostics;
using StackExchange.Redis;

namespace Rovett.Testing.Servers;

/// <summary>A Redis that has on disk what it has answered.</summary>
public sealed class RedisServer : ChildServer
{
    protected override ProcessStartInfo Program() => new("redis-server",
        ["--port", $"{Port}", "--bind", "127.0.0.1", "--dir", Folder, "--save", "", "--appendonly", "yes", "--appendfsync", "always"]);

    protected override async Task<bool> IsReady()
    {
        try
        {
            await using var redis = await ConnectionMultiplexer.ConnectAsync($"127.0.0.1:{Port},connectTimeout=500,abortConnect=true");
            await redis.GetDatabase().PingAsync();
            return true;
        }
        catch (Exception error) when (error is RedisException or TimeoutException)
        {
            return false;
        }
    }
}
