using System.Net;
using Yarp.ReverseProxy.Forwarder;

namespace Rovett.Service.Cluster;

/// <summary>A request whose body is brief, as a send is: it is read before it is passed on, and goes to the other node in one piece, which
/// then has it all at once. Most of what nodes pass on to each other are such requests.</summary>
sealed class BriefCommand
{
    const int Most = 16 * 1024; // bytes

    readonly HttpContext context;
    readonly byte[] bytes;

    BriefCommand(HttpContext context, byte[] bytes) => (this.context, this.bytes) = (context, bytes);

    /// <summary>Some of it may have reached the other node.</summary>
    public bool WasSent { get; private set; }

    /// <summary>Whether a request is one.</summary>
    public static bool Is(HttpRequest request) => request.ContentLength is > 0 and <= Most && request.Headers.Upgrade.Count == 0;

    /// <summary>Reads it. Its body can then be read again.</summary>
    public static async Task<BriefCommand> Read(HttpContext context)
    {
        var bytes = new byte[(int)context.Request.ContentLength!.Value];
        await context.Request.Body.ReadExactlyAsync(bytes, context.RequestAborted);
        context.Request.Body = new MemoryStream(bytes, writable: false);
        return new BriefCommand(context, bytes);
    }

    /// <summary>Passes it on, and its answer back.</summary>
    /// <param name="node">Where the other node is.</param>
    /// <param name="client">Sends it.</param>
    /// <param name="headers">What is passed on of its headers and the answer's.</param>
    /// <param name="end">Ends it.</param>
    /// <exception cref="HttpRequestException">It was not passed on, or not answered.</exception>
    /// <exception cref="IOException">The answer breaks off.</exception>
    public async Task Send(string node, HttpMessageInvoker client, HttpTransformer headers, CancellationToken end)
    {
        using var body = new Body(this);
        using var request = new HttpRequestMessage(new HttpMethod(context.Request.Method), node)
        { Version = HttpVersion.Version11, VersionPolicy = HttpVersionPolicy.RequestVersionExact, Content = body };
        await headers.TransformRequestAsync(context, request, node, end);
        using var answer = await client.SendAsync(request, end);
        context.Response.StatusCode = (int)answer.StatusCode;
        if (!await headers.TransformResponseAsync(context, answer, end)) return;
        await answer.Content.CopyToAsync(context.Response.Body, end);
    }

    sealed class Body(BriefCommand command) : ByteArrayContent(command.bytes)
    {
        protected override Task SerializeToStreamAsync(Stream stream, TransportContext? context, CancellationToken cancel)
        {
            command.WasSent = true;
            return base.SerializeToStreamAsync(stream, context, cancel);
        }
    }
}
