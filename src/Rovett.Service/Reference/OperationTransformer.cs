using System.Text.Json;
using System.Text.Json.Nodes;
using Microsoft.AspNetCore.Http.Json;
using Microsoft.AspNetCore.OpenApi;
using Microsoft.Extensions.Options;
using Microsoft.OpenApi;
using Rovett.Service.Credentials;
using Rovett.Service.Http;

namespace Rovett.Service.Reference;

/// <summary>An operation: its credential and scope, parameters, statuses, problems, headers and examples.</summary>
sealed class OperationTransformer(IOptions<JsonOptions> json) : IOpenApiOperationTransformer
{
    /// <summary>The credential of backends.</summary>
    public const string ApiKey = "apiKey";
    /// <summary>The credential of users.</summary>
    public const string UserToken = "userToken";

    const string Json = "application/json";
    readonly JsonSerializerOptions options = json.Value.SerializerOptions;

    /// <inheritdoc/>
    public async Task TransformAsync(OpenApiOperation operation, OpenApiOperationTransformerContext context,
        CancellationToken cancellationToken)
    {
        var metadata = context.Description.ActionDescriptor.EndpointMetadata;
        var mapped = metadata.OfType<Operation>().Single();
        var access = metadata.OfType<RequiredAccess>().FirstOrDefault();
        operation.OperationId = mapped.Id;
        operation.Summary = Comments.OneLine(operation.Summary);
        operation.Description = Comments.OneLine(operation.Description);
        Secure(operation, context.Document!, access, mapped.ChecksToken);
        await AddParameters(operation, mapped, context, cancellationToken);
        if (operation.RequestBody?.Content is { } taken)
        {
            foreach (var content in taken.Values) content.Example = ReferenceExamples.Of(mapped.Body!.Value.Type!, options);
            if (mapped.Body is { Description.Length: > 0 } body) ((OpenApiRequestBody)operation.RequestBody).Description = body.Description;
        }
        await Answers(operation, mapped, context, cancellationToken);
        Problems(operation, ProblemsOf.Operation(mapped, access).ToLookup(r => r.Status), mapped, context.Document!);
    }

    static void Secure(OpenApiOperation operation, OpenApiDocument document, RequiredAccess? access, bool checksToken)
    {
        if (access is null)
        {
            // A token or a ticket.
            operation.Security = checksToken
                ? [new OpenApiSecurityRequirement { [new OpenApiSecuritySchemeReference(UserToken, document)] = [] },
                    new OpenApiSecurityRequirement()]
                : [];
            return;
        }
        var (scheme, scopes) = access.By == AccessBy.Token ? (UserToken, (List<string>)[]) : (ApiKey, [access.Scope]);
        operation.Security = [new OpenApiSecurityRequirement { [new OpenApiSecuritySchemeReference(scheme, document)] = scopes }];
        if (access.By == AccessBy.Token) return;
        operation.Description =
            $"{operation.Description}\n\nScope: `{access.Scope}`{(access.By == AccessBy.MainKey ? " of the space main" : "")}."
            .TrimStart('\n');
    }

    async Task AddParameters(OpenApiOperation operation, Operation mapped, OpenApiOperationTransformerContext context,
        CancellationToken cancel)
    {
        operation.Parameters = [];
        foreach (var part in mapped.Path)
        {
            operation.Parameters.Add(Parameter(part, ParameterLocation.Path, required: true));
        }
        if (mapped.Query is { } query)
        {
            var shape = await context.GetOrCreateSchemaAsync(query, null, cancel);
            foreach (var property in options.GetTypeInfo(query).Properties)
            {
                var schema = shape.Properties![property.Name];
                operation.Parameters.Add(new OpenApiParameter
                {
                    Name = property.Name,
                    In = ParameterLocation.Query,
                    Description = schema.Description,
                    Example = ReferenceExamples.Of(property, options),
                    Schema = schema,
                });
            }
        }
        foreach (var part in mapped.RequestHeaders) operation.Parameters.Add(Parameter(part, ParameterLocation.Header, required: false));
    }

    static OpenApiParameter Parameter(Operation.Part part, ParameterLocation place, bool required) => new()
    {
        Name = part.Name,
        In = place,
        Required = required,
        Description = part.Description,
        Example = Example(part),
        Schema = new OpenApiSchema { Type = part.Example is int ? JsonSchemaType.Integer : JsonSchemaType.String },
    };

    static JsonNode Example(Operation.Part part) => part.Example is int number ? number : (string)part.Example;

    async Task Answers(OpenApiOperation operation, Operation mapped, OpenApiOperationTransformerContext context, CancellationToken cancel)
    {
        var shapes = mapped.Answer.Where(a => a is { MediaType: Json, Type: not null }).Select(a => a.Type!).ToList();
        foreach (int status in mapped.Statuses)
        {
            var response = (OpenApiResponse)operation.Responses![status.ToString()];
            response.Description = status switch
            {
                101 => "Upgraded to WebSocket",
                201 => "Created",
                202 => "Passed on",
                204 => "Done",
                422 => "Some of it was refused",
                _ => "OK"
            };
            foreach (var part in mapped.AnswerHeaders)
            {
                response.Headers ??= new Dictionary<string, IOpenApiHeader>();
                response.Headers[part.Name] = new OpenApiHeader
                {
                    Description = part.Description,
                    Example = Example(part),
                    Schema = new OpenApiSchema { Type = JsonSchemaType.String },
                };
            }
            if (status is 101 or 204) continue;
            if (shapes.Count > 0)
            {
                var content = response.Content![Json];
                content.Example = ReferenceExamples.Of(shapes[0], options);
                if (shapes.Count > 1)
                {
                    foreach (var shape in shapes)
                    {
                        context.Document!.AddComponent(shape.Name, await context.GetOrCreateSchemaAsync(shape, null, cancel));
                    }
                    content.Schema = new OpenApiSchema
                    {
                        AnyOf = [.. shapes.Select(s => new OpenApiSchemaReference(s.Name, context.Document))],
                    };
                }
            }
            foreach (var other in mapped.Answer.Where(a => a.MediaType != Json))
            {
                response.Content ??= new Dictionary<string, OpenApiMediaType>();
                response.Content[other.MediaType] = new OpenApiMediaType
                {
                    Schema = other.Type is null ? new OpenApiSchema { Type = JsonSchemaType.String, Description = other.Description }
                        : await context.GetOrCreateSchemaAsync(other.Type, null, cancel),
                };
            }
        }
    }

    static void Problems(OpenApiOperation operation, ILookup<int, Operation.Refusal> refusals, Operation mapped, OpenApiDocument document)
    {
        foreach (var group in refusals)
        {
            var response = (OpenApiResponse)operation.Responses![group.Key.ToString()];
            var lines = group.Select(r => ProblemCatalogue.All.TryGetValue(r.Slug, out var known)
                ? $"- `{r.Slug}`: {known.Title}" : throw new InvalidOperationException($"{mapped.Id} answers no problem '{r.Slug}'."));
            var said = string.Join('\n', lines);
            if (mapped.Statuses.Contains(group.Key))
            {
                response.Description += "; or a problem:\n" + said;
                response.Content!["application/problem+json"] =
                    new OpenApiMediaType { Schema = new OpenApiSchemaReference(nameof(ProblemAnswer), document) };
                continue;
            }
            response.Description = said;
            var first = ProblemCatalogue.All[group.First().Slug];
            response.Content!["application/problem+json"].Example = new JsonObject
            {
                ["type"] = Problem.TypePrefix + first.Slug,
                ["title"] = first.Title.Split(" · ")[0],
                ["status"] = group.Key,
                ["detail"] = first.Title.Split(" · ")[0],
                ["fix"] = first.Fix.Length > 0 ? first.Fix.Split(" · ")[0] : "Correct the named members.",
            };
            if (group.Key is 429 or 503)
            {
                response.Headers = new Dictionary<string, IOpenApiHeader>
                {
                    ["Retry-After"] = new OpenApiHeader
                    {
                        Description = "Seconds after which to try again.",
                        Example = 1,
                        Schema = new OpenApiSchema { Type = JsonSchemaType.Integer },
                    },
                };
            }
        }
    }
}
