using System.Reflection;

namespace Rovett.Service.Http;

/// <summary>One endpoint as the OpenAPI document shows it. Summary and description are those of the handler's comment.</summary>
/// <param name="method">The HTTP method.</param>
/// <param name="handler">The handler.</param>
public sealed class Operation(string method, MethodInfo handler)
{
    readonly List<Refusal> refusals = [];
    readonly List<Part> path = [], requestHeaders = [], answerHeaders = [];
    readonly List<Content> answers = [];

    /// <summary>A status with the type of its problem.</summary>
    public readonly record struct Refusal(int Status, string Slug);

    /// <summary>A part of the path, or a header.</summary>
    public readonly record struct Part(string Name, string Description, object Example);

    /// <summary>A body of a request or answer. <see cref="Type"/> null: described in words only.</summary>
    public readonly record struct Content(Type? Type, string MediaType, string Description);

    /// <summary>The HTTP method.</summary>
    public string Method => method;

    /// <summary>The document's name of it.</summary>
    public string Id { get; private set; } = char.ToLowerInvariant(handler.Name[0]) + handler.Name[1..];

    /// <summary>The endpoint checks users' tokens itself.</summary>
    public bool ChecksToken { get; private set; }

    /// <summary>The shape of the query; null: none.</summary>
    public Type? Query { get; set; }

    /// <summary>The body it takes; null: none.</summary>
    public Content? Body { get; set; }

    /// <summary>The statuses of success.</summary>
    public IReadOnlyList<int> Statuses { get; private set; } = [200];

    /// <summary>The answer on success.</summary>
    public IReadOnlyList<Content> Answer => answers;

    /// <summary>The problems it answers beside those of its group.</summary>
    public IReadOnlyList<Refusal> Refused => refusals;

    /// <summary>The parts of the path.</summary>
    public IReadOnlyList<Part> Path => path;

    /// <summary>Headers that a request may have.</summary>
    public IReadOnlyList<Part> RequestHeaders => requestHeaders;

    /// <summary>Headers of the answer.</summary>
    public IReadOnlyList<Part> AnswerHeaders => answerHeaders;

    /// <summary>Sets the name of the operation, where another handler has the same.</summary>
    public Operation Named(string id)
    {
        Id = id;
        return this;
    }

    /// <summary>Says that the handler looks at users' tokens itself.</summary>
    public Operation WithToken()
    {
        ChecksToken = true;
        return this;
    }

    /// <summary>Sets the statuses of success.</summary>
    public Operation Answers(params int[] statuses)
    {
        Statuses = statuses;
        return this;
    }

    /// <summary>Adds a shape of answer.</summary>
    public Operation AnswersWith(Type? type, string mediaType = "application/json", string description = "")
    {
        answers.Add(new Content(type, mediaType, description));
        return this;
    }

    /// <summary>Sets what the body is, for a handler that reads it itself.</summary>
    public Operation Takes<T>(string mediaType = "application/json", string description = "")
    {
        Body = new Content(typeof(T), mediaType, description);
        return this;
    }

    /// <summary>Adds problems of a status.</summary>
    public Operation Refuses(int status, params string[] slugs)
    {
        foreach (var slug in slugs) refusals.Add(new Refusal(status, slug));
        return this;
    }

    /// <summary>Says what a part of the path is.</summary>
    public Operation WithPath(string name, string description, object example)
    {
        path.Add(new Part(name, description, example));
        return this;
    }

    /// <summary>Adds a header that a request may have.</summary>
    public Operation TakesHeader(string name, string description, object example)
    {
        requestHeaders.Add(new Part(name, description, example));
        return this;
    }

    /// <summary>Adds a header of the answer.</summary>
    public Operation AnswersHeader(string name, string description, object example)
    {
        answerHeaders.Add(new Part(name, description, example));
        return this;
    }
}
