using Grpc.Core;
using Rovett.Service.Limits;
using Frames = Rovett.Core.Links.Frames;

namespace Rovett.Service.Cluster;

/// <summary>Takes the links of other nodes.</summary>
sealed class LinkDoor(LinkServices services, Nodes nodes, RevocationGate gate) : NodeLinks.NodeLinksBase
{
    public override async Task Open(IAsyncStreamReader<Frames.FromHolder> requestStream,
        IServerStreamWriter<Frames.ToHolder> responseStream, ServerCallContext context)
    {
        var request = context.GetHttpContext();
        if (NodeDoor.Of(request) is null)
            throw new RpcException(new Status(StatusCode.PermissionDenied, "This is for the nodes of the cluster."));
        Connections.IsStream(request);
        var link = new ServedLink(services, nodes) { SeenMore = gate.Look };
        gate.Add(link);
        await context.WriteResponseHeadersAsync([]); // the other end knows now that it is let in
        await link.Run(requestStream, responseStream, context.CancellationToken);
    }
}
