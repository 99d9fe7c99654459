using System.Buffers;
using System.Text.Json;
using System.Text.Json.Serialization.Metadata;
using Microsoft.AspNetCore.Http.Json;
using Microsoft.Extensions.Options;

namespace Rovett.Service.Http;

/// <summary>Endpoints whose handlers take and answer records, so that the OpenAPI document follows from their signatures.</summary>
static class TypedRoutes
{
    /// <summary>A GET that takes nothing but its path.</summary>
    public static Operation Get<TAnswer>(this IEndpointRouteBuilder routes, string pattern, Func<HttpContext, Task<TAnswer>> handler) =>
        Map(routes, "GET", pattern, handler);

    /// <summary>A GET with a query.</summary>
    public static Operation Get<TQuery, TAnswer>(this IEndpointRouteBuilder routes, string pattern,
        Func<HttpContext, Given<TQuery>, Task<TAnswer>> handler) => MapQuery(routes, "GET", pattern, handler);

    /// <summary>A DELETE that takes nothing but its path.</summary>
    public static Operation Delete<TAnswer>(this IEndpointRouteBuilder routes, string pattern, Func<HttpContext, Task<TAnswer>> handler) =>
        Map(routes, "DELETE", pattern, handler);

    /// <summary>A DELETE with a query.</summary>
    public static Operation Delete<TQuery, TAnswer>(this IEndpointRouteBuilder routes, string pattern,
        Func<HttpContext, Given<TQuery>, Task<TAnswer>> handler) => MapQuery(routes, "DELETE", pattern, handler);

    /// <summary>A POST that takes nothing but its path.</summary>
    public static Operation Post<TAnswer>(this IEndpointRouteBuilder routes, string pattern, Func<HttpContext, Task<TAnswer>> handler) =>
        Map(routes, "POST", pattern, handler);

    /// <summary>A POST with a body.</summary>
    public static Operation Post<TBody, TAnswer>(this IEndpointRouteBuilder routes, string pattern,
        Func<HttpContext, Given<TBody>, Task<TAnswer>> handler) => MapBody(routes, "POST", pattern, handler);

    /// <summary>A POST whose handler reads the body itself.</summary>
    public static Operation Post<TAnswer>(this IEndpointRouteBuilder routes, string pattern,
        Func<HttpContext, RawBody, Task<TAnswer>> handler) => MapRaw(routes, "POST", pattern, handler);

    /// <summary>A PUT with a body.</summary>
    public static Operation Put<TBody, TAnswer>(this IEndpointRouteBuilder routes, string pattern,
        Func<HttpContext, Given<TBody>, Task<TAnswer>> handler) => MapBody(routes, "PUT", pattern, handler);

    /// <summary>A PUT whose handler reads the body itself, from the request.</summary>
    public static Operation Put<TAnswer>(this IEndpointRouteBuilder routes, string pattern, Func<HttpContext, Task<TAnswer>> handler) =>
        Map(routes, "PUT", pattern, handler);

    /// <summary>A PATCH whose handler reads the body itself.</summary>
    public static Operation Patch<TAnswer>(this IEndpointRouteBuilder routes, string pattern,
        Func<HttpContext, RawBody, Task<TAnswer>> handler) => MapRaw(routes, "PATCH", pattern, handler);

    /// <summary>An endpoint whose handler writes the answer itself: streams and hot paths.</summary>
    /// <param name="routes">Where it is mapped.</param>
    /// <param name="method">The method that the document shows.</param>
    /// <param name="pattern">The path.</param>
    /// <param name="handler">The handler.</param>
    /// <param name="also">Methods that it answers too.</param>
    public static Operation ByHand(this IEndpointRouteBuilder routes, string method, string pattern, RequestDelegate handler,
        params string[] also)
    {
        var operation = new Operation(method, handler.Method);
        routes.MapMethods(pattern, [method, .. also], handler).WithMetadata(operation, handler.Method);
        return operation;
    }

    static Operation Map<TAnswer>(IEndpointRouteBuilder routes, string method, string pattern, Func<HttpContext, Task<TAnswer>> handler)
    {
        var answers = Answers<TAnswer>(routes);
        return Add<TAnswer>(routes, method, pattern, handler, async context => await Write(context, await handler(context), answers));
    }

    static Operation MapQuery<TQuery, TAnswer>(IEndpointRouteBuilder routes, string method, string pattern,
        Func<HttpContext, Given<TQuery>, Task<TAnswer>> handler)
    {
        var (answers, shape) = (Answers<TAnswer>(routes), Records(routes).GetTypeInfo(typeof(TQuery)));
        var operation = Add<TAnswer>(routes, method, pattern, handler, async context =>
            await Write(context, await handler(context, RequestReader.Query<TQuery>(context.Request.Query, shape)), answers));
        operation.Query = typeof(TQuery);
        return operation;
    }

    static Operation MapBody<TBody, TAnswer>(IEndpointRouteBuilder routes, string method, string pattern,
        Func<HttpContext, Given<TBody>, Task<TAnswer>> handler)
    {
        var (answers, shape) = (Answers<TAnswer>(routes), Records(routes).GetTypeInfo(typeof(TBody)));
        var operation = Add<TAnswer>(routes, method, pattern, handler, async context =>
        {
            using var body = await Json.Read(context);
            await Write(context, await handler(context, RequestReader.Body<TBody>(body.RootElement, shape)), answers);
        });
        return operation.Takes<TBody>();
    }

    static Operation MapRaw<TAnswer>(IEndpointRouteBuilder routes, string method, string pattern,
        Func<HttpContext, RawBody, Task<TAnswer>> handler)
    {
        var answers = Answers<TAnswer>(routes);
        return Add<TAnswer>(routes, method, pattern, handler, async context =>
        {
            using var body = await Json.Read(context);
            await Write(context, await handler(context, new RawBody(body.RootElement)), answers);
        });
    }

    static Operation Add<TAnswer>(IEndpointRouteBuilder routes, string method, string pattern, Delegate handler, RequestDelegate run)
    {
        var operation = new Operation(method, handler.Method);
        if (typeof(TAnswer) == typeof(NoAnswer)) operation.Answers(204);
        else if (typeof(TAnswer) != typeof(object)) operation.AnswersWith(typeof(TAnswer));
        routes.MapMethods(pattern, [method], run).WithMetadata(operation, handler.Method);
        return operation;
    }

    static JsonSerializerOptions Records(IEndpointRouteBuilder routes) =>
        routes.ServiceProvider.GetRequiredService<IOptions<JsonOptions>>().Value.SerializerOptions;

    /// <summary>How an answer is written; null: it has no body.</summary>
    static Func<object, JsonTypeInfo>? Answers<TAnswer>(IEndpointRouteBuilder routes)
    {
        if (typeof(TAnswer) == typeof(NoAnswer)) return null;
        var records = Records(routes);
        if (typeof(TAnswer) == typeof(object)) return answer => records.GetTypeInfo(answer.GetType()); // of several shapes
        var type = records.GetTypeInfo(typeof(TAnswer));
        return _ => type;
    }

    static async Task Write<TAnswer>(HttpContext context, TAnswer answer, Func<object, JsonTypeInfo>? typeOf)
    {
        if (typeOf is null || context.Response.HasStarted) return;
        var buffer = new ArrayBufferWriter<byte>(512);
        using (var json = new Utf8JsonWriter(buffer, Json.Writing)) JsonSerializer.Serialize(json, answer, typeOf(answer!));
        context.Response.ContentType = "application/json";
        context.Response.ContentLength = buffer.WrittenCount;
        await context.Response.BodyWriter.WriteAsync(buffer.WrittenMemory);
    }
}
