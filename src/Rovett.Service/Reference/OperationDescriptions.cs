using Microsoft.AspNetCore.Mvc.Abstractions;
using Microsoft.AspNetCore.Mvc.ApiExplorer;
using Microsoft.AspNetCore.Mvc.ModelBinding;
using Rovett.Service.Credentials;
using Rovett.Service.Http;

namespace Rovett.Service.Reference;

/// <summary>Describes to the document every endpoint that is mapped with an <see cref="Operation"/>, the console's own ones
/// left out.</summary>
sealed class OperationDescriptions(EndpointDataSource endpoints) : IApiDescriptionProvider
{
    /// <inheritdoc/>
    public int Order => 0;

    /// <inheritdoc/>
    public void OnProvidersExecuting(ApiDescriptionProviderContext context)
    {
        context.Results.Clear();
        foreach (var endpoint in endpoints.Endpoints.OfType<RouteEndpoint>())
        {
            if (endpoint.Metadata.GetMetadata<Operation>() is not { } operation) continue;
            if (endpoint.RoutePattern.RawText!.StartsWith("/console/", StringComparison.Ordinal)) continue;
            context.Results.Add(Describe(endpoint, operation));
        }
    }

    /// <inheritdoc/>
    public void OnProvidersExecuted(ApiDescriptionProviderContext context)
    {
    }

    static ApiDescription Describe(RouteEndpoint endpoint, Operation operation)
    {
        var description = new ApiDescription
        {
            HttpMethod = operation.Method,
            RelativePath = endpoint.RoutePattern.RawText!.TrimStart('/'),
            ActionDescriptor = new ActionDescriptor { DisplayName = operation.Id, EndpointMetadata = [.. endpoint.Metadata] },
        };
        if (operation.Body is { Type: { } body, MediaType: var media })
        {
            description.ParameterDescriptions.Add(new ApiParameterDescription
            {
                Name = "body",
                Source = BindingSource.Body,
                Type = body,
                IsRequired = true,
            });
            description.SupportedRequestFormats.Add(new ApiRequestFormat { MediaType = media });
        }
        foreach (int status in operation.Statuses)
        {
            var answer = operation.Answer.FirstOrDefault(a => a.MediaType == "application/json");
            description.SupportedResponseTypes.Add(answer.Type is null || status is 101 or 204
                ? new ApiResponseType { StatusCode = status, Type = typeof(void) }
                : new ApiResponseType
                {
                    StatusCode = status,
                    Type = answer.Type,
                    ApiResponseFormats = [new ApiResponseFormat { MediaType = answer.MediaType }],
                });
        }
        foreach (int status in ProblemsOf.Operation(operation, endpoint.Metadata.GetMetadata<RequiredAccess>()).Select(r => r.Status)
            .Distinct().Order())
        {
            if (operation.Statuses.Contains(status)) continue;
            description.SupportedResponseTypes.Add(new ApiResponseType
            {
                StatusCode = status,
                Type = typeof(ProblemAnswer),
                ApiResponseFormats = [new ApiResponseFormat { MediaType = "application/problem+json" }],
            });
        }
        return description;
    }
}
