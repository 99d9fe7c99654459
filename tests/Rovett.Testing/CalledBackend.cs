using System.Collections.Concurrent;
using System.Net;
using System.Net.Sockets;
using System.Text;

namespace Rovett.Testing;

/// <summary>A signed call that came (Standard Webhooks).</summary>
public sealed record Called(string Id, string Timestamp, string Signature, byte[] Body);

/// <summary>A backend on loopback that the service calls, and that answers as a test wants it to.</summary>
public sealed class CalledBackend : IAsyncDisposable
{
    readonly HttpListener listener;
    readonly Task work;

    public CalledBackend()
    {
        for (; ; )
        {
            using (var probe = new TcpListener(IPAddress.Loopback, 0))
            {
                probe.Start();
                Url = $"http://127.0.0.1:{((IPEndPoint)probe.LocalEndpoint).Port}/called/";
            }
            listener = new HttpListener();
            try
            {
                listener.Prefixes.Add(Url);
                listener.Start();
                break;
            }
            catch (HttpListenerException)
            {
                listener.Close(); // somebody else was quicker with the port
            }
        }
        work = Run();
    }

    public string Url { get; }

    /// <summary>Every call, in the order they came.</summary>
    public ConcurrentQueue<Called> Calls { get; } = new();

    /// <summary>What is answered: a status (302 points elsewhere; below 0 nothing is answered at all) and a body.</summary>
    public volatile Func<Called, (int Status, string Body)> Answer = _ => (500, "");

    /// <summary>The answer's header Retry-After; null: none.</summary>
    public volatile string? RetryAfter;

    async Task Run()
    {
        try
        {
            for (; ; )
            {
                var context = await listener.GetContextAsync();
                _ = Task.Run(() => Respond(context));
            }
        }
        catch (Exception stopped) when (stopped is HttpListenerException or ObjectDisposedException)
        {
        }
    }

    async Task Respond(HttpListenerContext context)
    {
        try
        {
            using var body = new MemoryStream();
            await context.Request.InputStream.CopyToAsync(body);
            string Header(string name) => context.Request.Headers["webhook-" + name]!;
            var call = new Called(Header("id"), Header("timestamp"), Header("signature"), body.ToArray());
            Calls.Enqueue(call);
            var (status, text) = Answer(call);
            if (status < 0) return;
            context.Response.StatusCode = status;
            if (RetryAfter is { } wait) context.Response.Headers["Retry-After"] = wait;
            if (status == 302) context.Response.RedirectLocation = Url + "elsewhere";
            if (text.Length > 0) await context.Response.OutputStream.WriteAsync(Encoding.UTF8.GetBytes(text));
            context.Response.Close();
        }
        catch (Exception gone) when (gone is HttpListenerException or ObjectDisposedException or InvalidOperationException)
        {
        }
    }

    public async ValueTask DisposeAsync()
    {
        listener.Abort();
        await work;
    }
}
