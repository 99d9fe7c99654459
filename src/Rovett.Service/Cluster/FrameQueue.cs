using System.Threading.Channels;
using Grpc.Core;

namespace Rovett.Service.Cluster;

/// <summary>Frames on their way to the other end of a link, in order. Bounded: an end that does not take what it is sent breaks the link,
/// and what it missed is read from the store later.</summary>
/// <param name="weigh">About how many bytes a frame has.</param>
sealed class FrameQueue<T>(Func<T, int> weigh) where T : class
{
    const long MostBytes = 8 << 20;

    readonly Channel<T> frames = Channel.CreateUnbounded<T>(new UnboundedChannelOptions { SingleReader = true });
    long waiting;

    /// <summary>Puts a frame at the end.</summary>
    /// <returns>False: the link is over.</returns>
    public bool Add(T frame)
    {
        if (Interlocked.Add(ref waiting, weigh(frame)) > MostBytes)
            frames.Writer.TryComplete(new IOException("The other node does not keep up."));
        return frames.Writer.TryWrite(frame);
    }

    /// <summary>Nothing more is sent.</summary>
    public void Close() => frames.Writer.TryComplete();

    /// <summary>Writes frames until it is closed.</summary>
    public async Task WriteTo(IAsyncStreamWriter<T> to, CancellationToken stop)
    {
        var now = new WriteOptions();
        var more = new WriteOptions(WriteFlags.BufferHint);
        while (await frames.Reader.WaitToReadAsync(stop))
        {
            while (frames.Reader.TryRead(out var frame))
            {
                Interlocked.Add(ref waiting, -weigh(frame));
                to.WriteOptions = frames.Reader.TryPeek(out _) ? more : now;
                await to.WriteAsync(frame, stop);
            }
        }
    }
}
