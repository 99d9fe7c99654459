using System.Text.Json;
using System.Text.Json.Serialization.Metadata;
using Microsoft.AspNetCore.Http.Features;
using Microsoft.AspNetCore.Http.Json;
using Microsoft.Extensions.Options;
using Rovett.Core.Ledgers.Commands.Directory;
using Rovett.Service.Audit;
using Rovett.Service.Credentials;
using Rovett.Service.Http;
using Rovett.Service.Ledgers;
using Rovett.Service.Spaces;

namespace Rovett.Service.Endpoints.Backend;

/// <summary>Takes many users in one request, a line at a time.</summary>
public sealed class UserImport(LedgerPump ledger, AuditTrail audit, TimeProvider clock, IOptions<JsonOptions> json)
{
    const int MaxLineBytes = 64 * 1024, Batch = 200, Part = 10, MostFaults = 50;
    const string Lines = "application/x-ndjson";
    static readonly TimeSpan ProgressEvery = TimeSpan.FromSeconds(1);

    readonly JsonSerializerOptions records = json.Value.SerializerOptions;

    /// <summary>Imports many users.</summary>
    /// <remarks>The body has one JSON object a line (NDJSON). Lines at fault are named; the others are stored. With
    /// <c>Accept: application/x-ndjson</c> the answer has a line now and then that says how far it is, and the result
    /// as the last.</remarks>
    public async Task<ImportAnswer> ImportUsers(HttpContext context)
    {
        var (space, key) = context.KeyCaller();
        if (context.Features.Get<IHttpMaxRequestBodySizeFeature>() is { IsReadOnly: false } limit) limit.MaxRequestBodySize = null;
        bool tellsProgress = context.Request.Headers.Accept.ToString().Contains(Lines, StringComparison.OrdinalIgnoreCase);
        var run = new Run(records.GetTypeInfo(typeof(UserRequest)));
        try
        {
            var reader = new LineReader(context.Request.BodyReader, MaxLineBytes);
            long told = clock.GetTimestamp();
            while (await reader.Next(context.RequestAborted) is { } text)
            {
                run.Take(text);
                if (run.Batch.Count == Batch) await Store(space, run);
                if (!tellsProgress || clock.GetElapsedTime(told) <= ProgressEvery) continue;
                told = clock.GetTimestamp();
                await Tell(context, new ImportAnswer { Line = run.Line, Stored = run.Stored, Refused = run.Refused });
            }
            await Store(space, run);
        }
        catch (Exception failed) when (context.Response.HasStarted && (failed is ProblemException || LedgerPump.IsStoreFailure(failed)))
        {
            // The status is out already: the last line is the problem.
            var answer = run.Answer((failed as ProblemException)?.Problem ?? LedgerPump.StoreFailed(failed));
            await Tell(context, answer);
            return answer;
        }
        finally
        {
            // Also of one that was cut short.
            if (run.Stored > 0)
            {
                audit.Note(space.Name, key.Actor, "users.imported", "users", note => note.WriteNumber("stored", run.Stored));
            }
        }
        if (tellsProgress) await Tell(context, run.Answer(null));
        else if (run is { Refused: > 0, Stored: 0 }) context.Response.StatusCode = StatusCodes.Status422UnprocessableEntity;
        return run.Answer(null);
    }

    async Task Store(SpaceRuntime space, Run run)
    {
        if (space.IsRemoved) // its name may be another tenant's by now
        {
            throw new Problem(404, "unknown-space", "No such space", $"The space '{space.Name}' has been removed.",
                "Check the path: /v1/… for the space main, /s/<space>/v1/… for any other.").ToException();
        }
        var parts = run.Batch.Chunk(Part).ToList(); // so that others have their turn in between
        run.Batch.Clear();
        var answers = await ledger.AskAll(parts.Select(p => new PutUsersCommand(space.Name, p, wantsAnswer: false)));
        run.Stored += parts.Zip(answers).Where(p => p.Second.IsCompletedSuccessfully).Sum(p => p.First.Length);
        foreach (var answer in answers) await answer;
    }

    async Task Tell<T>(HttpContext context, T line)
    {
        if (!context.Response.HasStarted) context.Response.ContentType = Lines;
        await context.Response.WriteAsync(JsonSerializer.Serialize(line, (JsonTypeInfo<T>)records.GetTypeInfo(typeof(T))) + "\n",
            context.RequestAborted);
        await context.Response.Body.FlushAsync(context.RequestAborted);
    }

    /// <summary>One import.</summary>
    sealed class Run(JsonTypeInfo shape)
    {
        readonly List<FieldError> faults = [];

        public readonly List<DirectoryUser> Batch = new(UserImport.Batch);

        public long Line { get; private set; }

        public long Refused { get; private set; }

        public long Stored { get; set; }

        public void Take(byte[] text)
        {
            Line++;
            if (text.Length == 0) return;
            try
            {
                using var document = Json.Parse(text);
                var given = RequestReader.Body<UserRequest>(document.RootElement, shape);
                var user = UsersApi.Read(given, null);
                given.Sound();
                Batch.Add(user);
            }
            catch (ProblemException wrong)
            {
                Refused++;
                if (faults.Count >= MostFaults) return;
                faults.AddRange(wrong.Problem.Errors.Count > 0
                    ? wrong.Problem.Errors.Select(e => new FieldError($"line {Line}: {e.Field}", e.Detail))
                    : [new FieldError($"line {Line}: (line)", "is not one JSON object")]);
            }
        }

        public ImportAnswer Answer(Problem? problem) => new()
        {
            Stored = Stored,
            Refused = Refused,
            Problem = problem is null ? null : ProblemAnswer.Of(problem),
            Errors = faults.Count > 0 ? FieldErrorAnswer.Of(faults) : null,
        };
    }
}
