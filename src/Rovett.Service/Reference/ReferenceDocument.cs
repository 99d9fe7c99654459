using System.Security.Cryptography;
using Microsoft.AspNetCore.OpenApi;
using Microsoft.Net.Http.Headers;
using Microsoft.OpenApi;

namespace Rovett.Service.Reference;

/// <summary>The document, written once.</summary>
public sealed class ReferenceDocument([FromKeyedServices("v1")] IOpenApiDocumentProvider provider)
{
    readonly SemaphoreSlim writing = new(1);
    (byte[] Json, string Tag)? written;

    /// <summary>Shows this document.</summary>
    public async Task ShowDocument(HttpContext context)
    {
        var (document, tag) = written ?? await Create(context.RequestAborted);
        context.Response.Headers.ETag = tag;
        context.Response.Headers.CacheControl = "no-cache";
        if (context.Request.Headers.IfNoneMatch == tag)
        {
            context.Response.StatusCode = StatusCodes.Status304NotModified;
            return;
        }
        context.Response.ContentType = "application/json";
        context.Response.ContentLength = document.Length;
        context.Response.Headers[HeaderNames.XContentTypeOptions] = "nosniff";
        await context.Response.BodyWriter.WriteAsync(document);
    }

    async Task<(byte[] Json, string Tag)> Create(CancellationToken cancel)
    {
        await writing.WaitAsync(cancel);
        try
        {
            if (written is { } before) return before;
            var document = await provider.GetOpenApiDocumentAsync(cancel);
            using var stream = new MemoryStream();
            await document.SerializeAsJsonAsync(stream, OpenApiSpecVersion.OpenApi3_1, cancel);
            var json = stream.ToArray();
            var tag = $"\"{Convert.ToHexStringLower(SHA256.HashData(json))[..16]}\"";
            written = (json, tag);
            return (json, tag);
        }
        finally
        {
            writing.Release();
        }
    }
}
