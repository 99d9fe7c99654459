using Microsoft.AspNetCore.OpenApi;
using Microsoft.OpenApi;
using Rovett.Service.Diagnostics;

namespace Rovett.Service.Reference;

/// <summary>The document as a whole: what it is, where it is served, the credentials.</summary>
sealed class DocumentTransformer : IOpenApiDocumentTransformer
{
    const string About = """
        Rovett takes events of your backend and delivers notifications to users and roles over private, authorized channels.

        Errors are RFC 9457 documents; each operation lists the types it can answer. Times are RFC 3339 in UTC. Members that are not
        set are left out.

        The messages of live connections (WebSocket, server-sent events, long poll) are described by the AsyncAPI document.
        """;

    /// <inheritdoc/>
    public Task TransformAsync(OpenApiDocument document, OpenApiDocumentTransformerContext context, CancellationToken cancellationToken)
    {
        document.Info = new OpenApiInfo
        {
            Title = "Rovett",
            Version = ServiceInfo.Version,
            Description = About,
            License = new OpenApiLicense { Name = "Apache 2.0", Identifier = "Apache-2.0" },
        };
        document.Servers =
        [
            new OpenApiServer { Url = "/", Description = "The space main" },
            new OpenApiServer
            {
                Url = "/s/{space}",
                Description = "Any other space",
                Variables = new Dictionary<string, OpenApiServerVariable>
                {
                    ["space"] = new() { Default = "harbour", Description = "The name of the space" },
                },
            },
        ];
        document.Components ??= new OpenApiComponents();
        foreach (var (name, schema) in document.Components.Schemas ?? new Dictionary<string, IOpenApiSchema>())
        {
            if (schema is OpenApiSchema record && !SchemaTransformer.IsPatch(name)) NeverNull(record);
        }
        document.Components.SecuritySchemes = new Dictionary<string, IOpenApiSecurityScheme>
        {
            [OperationTransformer.ApiKey] = new OpenApiSecurityScheme
            {
                Type = SecuritySchemeType.Http,
                Scheme = "bearer",
                BearerFormat = "rovett_key_…",
                Description = "An API key of the space. What an operation needs is one of the scopes send, read and admin; admin is " +
                    "accepted everywhere.",
            },
            [OperationTransformer.UserToken] = new OpenApiSecurityScheme
            {
                Type = SecuritySchemeType.Http,
                Scheme = "bearer",
                BearerFormat = "JWT",
                Description = "A token of a user (RFC 7519), made by your backend and signed with a signing key of the space.",
            },
        };
        return Task.CompletedTask;
    }

    /// <summary>Members that are left out when they are not set are never null, those that are objects neither.</summary>
    static void NeverNull(OpenApiSchema schema)
    {
        foreach (var (name, member) in schema.Properties?.ToList() ?? [])
        {
            if (member is OpenApiSchema { OneOf: [{ Type: JsonSchemaType.Null }, var only] }) schema.Properties![name] = only;
        }
    }
}
