using System.Net;
using Microsoft.AspNetCore.Connections;
using Microsoft.AspNetCore.Server.Kestrel.Core.Features;

namespace Rovett.Service.Limits;

/// <summary>Bounds the connections to the service, whatever is said on them.</summary>
public sealed class Connections
{
    const int Reserve = 256; // open files that others need: the store, webhooks, the log
    static readonly TimeSpan SayAgainAfter = TimeSpan.FromMinutes(1);

    readonly FairRoom room;
    readonly ConnectionTurns turns;
    readonly ILogger<Connections> log;
    readonly Action<object> abort;
    long saidAt;

    /// <summary>Makes an empty one.</summary>
    /// <param name="most">The most connections; fewer when the process may not open so many files.</param>
    /// <param name="turns">In which they begin.</param>
    /// <param name="log">Hears when they are all taken.</param>
    public Connections(int most, ConnectionTurns turns, ILogger<Connections> log)
    {
        (this.turns, this.log) = (turns, log);
        abort = connection => Abort((ConnectionContext)connection);
        room = new FairRoom(Possible(most), TimeSpan.FromSeconds(1));
    }

    static int Possible(int most) => OpenFiles.Most() is { } files ? (int)Math.Min(most, Math.Max(files - Reserve, files / 2)) : most;

    /// <summary>The most connections; set to more than the process may have, it is as many as it may.</summary>
    public int Most { get => room.Most; set => room.Most = Possible(value); }

    /// <summary>How many there are.</summary>
    public int Now => room.Taken;

    /// <summary>Has a connection counted as long as it lasts, or ends it at once; and has it wait for its turn to begin.</summary>
    public ConnectionDelegate Count(ConnectionDelegate next) => async connection =>
    {
        using var place = room.Enter(FairRoom.NetworkOf((connection.RemoteEndPoint as IPEndPoint)?.Address), abort, connection);
        if (place is null)
        {
            Abort(connection);
            return;
        }
        using var turn = await turns.Begin(place);
        connection.Features.Set(turn);
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

    /// <summary>A session has begun on the request's connection: it is not ended for others, and its turn to begin is over.</summary>
    public static void Keep(HttpContext context)
    {
        if (context.Features.Get<ConnectionTurns.Turn>() is not { } turn) return;
        turn.Room?.Keep();
        turn.Dispose();
    }

    /// <summary>The response is a stream, whose reader may be slow: a session has bounds of its own.</summary>
    public static void IsStream(HttpContext context)
    {
        if (context.Features.Get<IHttpMinResponseDataRateFeature>() is { } rate) rate.MinDataRate = null;
    }
}
