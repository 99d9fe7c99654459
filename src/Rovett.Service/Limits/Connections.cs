using System.Globalization;
using System.Net;
using Microsoft.AspNetCore.Connections;
using Microsoft.AspNetCore.Connections.Features;
using Microsoft.AspNetCore.Server.Kestrel.Core.Features;

namespace Rovett.Service.Limits;

/// <summary>Bounds the connections to the service, whatever is said on them.</summary>
public sealed class Connections
{
    const int Reserve = 256; // open files that others need: the store, webhooks, the log
    static readonly object Item = new();
    static readonly TimeSpan SayAgainAfter = TimeSpan.FromMinutes(1);

    readonly FairRoom room;
    readonly ILogger<Connections> log;
    long saidAt;

    /// <summary>Makes an empty one.</summary>
    /// <param name="most">The most connections; fewer when the process may not open so many files.</param>
    /// <param name="log">Hears when they are all taken.</param>
    public Connections(int most, ILogger<Connections> log)
    {
        this.log = log;
        Most = OpenFiles() is { } files ? (int)Math.Min(most, Math.Max(files - Reserve, files / 2)) : most;
        room = new FairRoom(Most, TimeSpan.FromSeconds(1));
    }

    /// <summary>The most connections.</summary>
    public int Most { get; }

    /// <summary>How many there are.</summary>
    public int Now => room.Taken;

    /// <summary>Has a connection counted as long as it lasts, or ends it at once.</summary>
    public ConnectionDelegate Count(ConnectionDelegate next) => async connection =>
    {
        using var place = room.Enter(FairRoom.NetworkOf((connection.RemoteEndPoint as IPEndPoint)?.Address), () => Abort(connection));
        if (place is null)
        {
            Abort(connection);
            return;
        }
        connection.Items[Item] = place;
        await next(connection);
    };

    void Abort(ConnectionContext connection)
    {
        connection.Abort(new ConnectionAbortedException("The service has as many connections as it may."));
        long now = Environment.TickCount64, said = Volatile.Read(ref saidAt);
        if (said != 0 && now - said < SayAgainAfter.TotalMilliseconds) return;
        if (Interlocked.CompareExchange(ref saidAt, now, said) == said)
        {
            log.LogWarning("There are {Most} connections, as many as may be (maxConnections, or the open files of the process): the " +
                "network that has most loses its oldest for each new one. {Refused} were ended so since the start", Most, room.Refused);
        }
    }

    /// <summary>A session was begun on the request's connection: it is not ended for others.</summary>
    public static void Keep(HttpContext context)
    {
        if (context.Features.Get<IConnectionItemsFeature>()?.Items.TryGetValue(Item, out var place) == true)
        {
            ((FairRoom.Place)place!).Keep();
        }
    }

    /// <summary>The response is a stream, whose reader may be slow: a session has bounds of its own.</summary>
    public static void IsStream(HttpContext context)
    {
        if (context.Features.Get<IHttpMinResponseDataRateFeature>() is { } rate) rate.MinDataRate = null;
    }

    /// <summary>How many files the process may have open; null: not known.</summary>
    static long? OpenFiles()
    {
        try
        {
            foreach (var line in File.ReadLines("/proc/self/limits"))
            {
                if (line.StartsWith("Max open files", StringComparison.Ordinal)
                    && line.Split(' ', StringSplitOptions.RemoveEmptyEntries) is { Length: > 3 } parts
                    && long.TryParse(parts[3], NumberStyles.None, CultureInfo.InvariantCulture, out long files))
                {
                    return files;
                }
            }
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException)
        {
            // Not Linux: the number that was set holds.
        }
        return null;
    }
}
