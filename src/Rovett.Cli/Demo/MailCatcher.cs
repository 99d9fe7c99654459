using System.Buffers;
using System.Collections.Concurrent;
using System.Net;
using System.Net.Sockets;
using MimeKit;
using SmtpServer;
using SmtpServer.Protocol;
using SmtpServer.Storage;

namespace Rovett.Cli.Demo;

/// <summary>A mail server on loopback that keeps what it is sent, and passes nothing on.</summary>
sealed class MailCatcher : IAsyncDisposable
{
    readonly CancellationTokenSource stop = new();
    readonly Task work;
    readonly Keeper keeper = new();

    public MailCatcher()
    {
        using (var probe = new TcpListener(IPAddress.Loopback, 0))
        {
            probe.Start();
            Port = ((IPEndPoint)probe.LocalEndpoint).Port;
        }
        var provider = new SmtpServer.ComponentModel.ServiceProvider();
        provider.Add(keeper);
        var options = new SmtpServerOptionsBuilder().ServerName("localhost")
            .Endpoint(e => e.Endpoint(new IPEndPoint(IPAddress.Loopback, Port))).Build();
        work = new SmtpServer.SmtpServer(options, provider).StartAsync(stop.Token);
    }

    /// <summary>Its port.</summary>
    public int Port { get; }

    /// <summary>What it was sent, oldest first.</summary>
    public IReadOnlyList<MimeMessage> Caught => [.. keeper.Caught];

    /// <summary>What it answers instead of taking an e-mail; null: it takes it.</summary>
    public SmtpResponse? Refuses { set => keeper.Refuses = value; }

    public async ValueTask DisposeAsync()
    {
        await stop.CancelAsync();
        try
        {
            await work;
        }
        catch (OperationCanceledException)
        {
        }
        stop.Dispose();
    }

    sealed class Keeper : MessageStore
    {
        public readonly ConcurrentQueue<MimeMessage> Caught = new();
        public volatile SmtpResponse? Refuses;

        public override async Task<SmtpResponse> SaveAsync(ISessionContext context, IMessageTransaction transaction,
            ReadOnlySequence<byte> buffer, CancellationToken cancellationToken)
        {
            if (Refuses is { } answer) return answer;
            using var stream = new MemoryStream(buffer.ToArray());
            Caught.Enqueue(await MimeMessage.LoadAsync(stream, cancellationToken));
            return SmtpResponse.Ok;
        }
    }
}
