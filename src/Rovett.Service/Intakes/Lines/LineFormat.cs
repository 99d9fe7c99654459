using System.Text;
using System.Text.Json;
using System.Text.RegularExpressions;
using Rovett.Core.Events;
using Rovett.Core.Rules;
using Rovett.Service.Events;
using Rovett.Service.Http;

namespace Rovett.Service.Intakes.Lines;

/// <summary>How a line is read as an event.</summary>
public sealed class LineFormat
{
    static readonly TimeSpan MatchWithin = TimeSpan.FromMilliseconds(100);

    readonly bool isJson;
    readonly Regex? match;
    readonly EventShape? shape;

    LineFormat(bool isJson, Regex? match, EventShape? shape) => (this.isJson, this.match, this.shape) = (isJson, match, shape);

    /// <summary>Reads the settings: <c>lines: events</c> (an event in the JSON format of CloudEvents each), <c>data</c> (the data of
    /// one, of which <c>event</c> makes the event), or <c>text</c> (plain text, of which <c>match</c> finds the fields).</summary>
    public static LineFormat Read(IntakeFields fields)
    {
        var lines = fields.OneOf("lines", "events", "events", "data", "text");
        var match = Match(fields, lines == "text");
        bool needsEvent = lines != "events";
        if (!needsEvent)
        {
            if (fields.Has("event")) fields.Wrong("event", "is not used: each line is an event; write 'lines: data' or 'lines: text'");
            return new LineFormat(true, null, null);
        }
        if (!fields.Has("event")) fields.Wrong(null, $"needs 'event' with 'lines: {lines}': the type, source and data that a line becomes");
        List<string> names = match is null ? ["line"] : ["line", .. match.GetGroupNames().Where(n => !char.IsAsciiDigit(n[0]))];
        return new LineFormat(lines == "data", match, fields.Shape("event", lines == "data" ? [] : names, hasData: lines == "data"));
    }

    static Regex? Match(IntakeFields fields, bool isText)
    {
        if (fields.Node("match") is not { } found) return null;
        if (!isText)
        {
            fields.Wrong("match", "is for 'lines: text' only");
            return null;
        }
        try
        {
            return new Regex(found.Text, RegexOptions.CultureInvariant | RegexOptions.NonBacktracking, MatchWithin);
        }
        catch (Exception error) when (error is ArgumentException or NotSupportedException)
        {
            fields.Wrong("match", $"is no regular expression that can be used here: {error.Message.TrimEnd('.')}; look-around and " +
                "back-references are not taken");
            return null;
        }
    }

    /// <summary>Reads a line.</summary>
    /// <param name="line">The line without its end.</param>
    /// <param name="now">The time of an event that names none.</param>
    /// <param name="zone">The zone of times in texts.</param>
    /// <exception cref="ProblemException">It is no event.</exception>
    public IncomingEvent Event(ReadOnlyMemory<byte> line, DateTimeOffset now, TimeZoneInfo zone)
    {
        if (shape is null) return Completed(line);
        try
        {
            JsonElement? data = null;
            if (isJson)
            {
                using var document = Json.Parse(line.ToArray());
                data = document.RootElement.Clone();
            }
            var made = shape.Make(isJson ? new Dictionary<string, string>() : Fields(line), data, NewId(), now, zone);
            using var found = Json.Parse(made);
            return EventReader.Structured(found.RootElement.Clone(), null);
        }
        catch (RuleFailure failure)
        {
            throw Problem.Invalid([new FieldError("event", failure.Message)]).ToException();
        }
    }

    static string NewId() => Guid.CreateVersion7().ToString();

    /// <summary>An event as a script writes it: <c>specversion</c> and <c>id</c> may be left out.</summary>
    static IncomingEvent Completed(ReadOnlyMemory<byte> line)
    {
        using var document = Json.Parse(line.ToArray());
        var root = document.RootElement;
        if (root.ValueKind != JsonValueKind.Object || (root.TryGetProperty("id", out _) && root.TryGetProperty("specversion", out _)))
        {
            return EventReader.Structured(root.Clone(), null);
        }
        using var buffer = new MemoryStream();
        using (var json = new Utf8JsonWriter(buffer, Json.Writing))
        {
            json.WriteStartObject();
            if (!root.TryGetProperty("specversion", out _)) json.WriteString("specversion", "1.0");
            if (!root.TryGetProperty("id", out _)) json.WriteString("id", NewId());
            foreach (var member in root.EnumerateObject()) member.WriteTo(json);
            json.WriteEndObject();
        }
        using var completed = JsonDocument.Parse(buffer.ToArray());
        return EventReader.Structured(completed.RootElement.Clone(), null);
    }

    Dictionary<string, string> Fields(ReadOnlyMemory<byte> line)
    {
        string text;
        try
        {
            text = new UTF8Encoding(false, throwOnInvalidBytes: true).GetString(line.Span);
        }
        catch (DecoderFallbackException)
        {
            throw Problem.Invalid([new FieldError("line", "is not UTF-8")]).ToException();
        }
        var fields = new Dictionary<string, string> { ["line"] = text };
        if (match is null) return fields;
        if (match.Match(text) is not { Success: true } found)
        {
            throw Problem.Invalid([new FieldError("line", "does not match the expression of the intake (match)")]).ToException();
        }
        foreach (Group group in found.Groups)
        {
            if (group.Success && !char.IsAsciiDigit(group.Name[0])) fields[group.Name] = group.Value;
        }
        return fields;
    }
}
