using System.Text.Encodings.Web;
using System.Text.Json.Serialization;
using System.Text.Json.Serialization.Metadata;

namespace Rovett.Service.Http;

/// <summary>How the records of requests and answers are read and written.</summary>
static class JsonSetup
{
    /// <summary>Adds the records of a feature, with the code that was generated for them.</summary>
    public static IServiceCollection AddRecords(this IServiceCollection services, IJsonTypeInfoResolver records) =>
        services.ConfigureHttpJsonOptions(options => options.SerializerOptions.TypeInfoResolverChain.Insert(0, records));

    /// <summary>The common part.</summary>
    public static IServiceCollection AddJson(this IServiceCollection services) => services.ConfigureHttpJsonOptions(options =>
    {
        options.SerializerOptions.DefaultIgnoreCondition = JsonIgnoreCondition.WhenWritingNull;
        options.SerializerOptions.NumberHandling = JsonNumberHandling.Strict;
        options.SerializerOptions.Encoder = JavaScriptEncoder.UnsafeRelaxedJsonEscaping;
        options.SerializerOptions.Converters.Add(new StoredTimeConverter());
    });
}
