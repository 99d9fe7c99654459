using System.Text.Json;
using Microsoft.AspNetCore.Mvc.ApiExplorer;
using Microsoft.AspNetCore.OpenApi;
using Microsoft.OpenApi;
using Rovett.Service.Http;

namespace Rovett.Service.Reference;

/// <summary>The OpenAPI document of the service, which is generated from its endpoints.</summary>
static class ReferenceSetup
{
    const string Name = "v1";

    public static IServiceCollection AddReference(this IServiceCollection services)
    {
        services.AddOpenApi(Name, options =>
        {
            options.OpenApiVersion = OpenApiSpecVersion.OpenApi3_1;
            options.ShouldInclude = _ => true;
            options.CreateSchemaReferenceId = type =>
                (Nullable.GetUnderlyingType(type.Type) ?? type.Type) is var bare
                && (bare == typeof(StoredTime) || bare == typeof(JsonElement))
                    ? null : OpenApiOptions.CreateDefaultSchemaReferenceId(type);
            options.AddDocumentTransformer<DocumentTransformer>();
            options.AddOperationTransformer<OperationTransformer>();
            options.AddSchemaTransformer<SchemaTransformer>();
        });
        return services.AddSingleton<IApiDescriptionProvider, OperationDescriptions>().AddSingleton<ReferenceDocument>();
    }

    public static void MapReference(this IEndpointRouteBuilder routes) =>
        routes.MapGroup("").WithTags("Operation")
            .ByHand("GET", "/v1/openapi.json", routes.ServiceProvider.GetRequiredService<ReferenceDocument>().ShowDocument)
            .AnswersWith(typeof(JsonElement), "application/json", "An OpenAPI 3.1 document.");
}
