using System.Diagnostics.CodeAnalysis;
using System.Runtime.InteropServices;
using System.Text.Encodings.Web;
using System.Text.Json;
using System.Text.Unicode;

namespace Rovett.Core.Values;

/// <summary>Strings out of JSON, with what JSON allows and we do not kept out.</summary>
public static class JsonText
{
    /// <summary>Escapes what JSON must have escaped and nothing more; a message is never read as HTML.</summary>
    public static readonly JsonWriterOptions WriterOptions = new()
    { Encoder = JavaScriptEncoder.UnsafeRelaxedJsonEscaping, SkipValidation = false };

    /// <summary>Reads a string; false when it is none, or has U+0000 or half of a surrogate pair.</summary>
    public static bool TryString(JsonElement element, [NotNullWhen(true)] out string? text)
    {
        text = null;
        if (element.ValueKind != JsonValueKind.String) return false;
        try
        {
            text = element.GetString();
        }
        catch (InvalidOperationException)
        {
            return false; // an escaped lone surrogate
        }
        if (text is null || text.Contains('\0') || HasLoneSurrogate(text)) text = null;
        return text is not null;
    }

    /// <summary>A member's name, for messages; <c>(unreadable)</c> when it has half of a surrogate pair.</summary>
    public static string NameOf(JsonProperty member)
    {
        try
        {
            return member.Name;
        }
        catch (InvalidOperationException)
        {
            return "(unreadable)";
        }
    }

    /// <summary>True when a string anywhere in the value, or a member's name, can't be read by <see cref="TryString"/>.</summary>
    public static bool HasBadText(JsonElement element) => !IsPlain(JsonMarshal.GetRawUtf8Value(element)) && HasBad(element);

    /// <summary>Whether JSON has no escapes: without them it can't have what is kept out.</summary>
    static bool IsPlain(ReadOnlySpan<byte> json) => !json.Contains((byte)'\\') && Utf8.IsValid(json);

    static bool HasBad(JsonElement element)
    {
        switch (element.ValueKind)
        {
            case JsonValueKind.String: return !TryString(element, out _);
            case JsonValueKind.Array:
                foreach (var item in element.EnumerateArray())
                {
                    if (HasBad(item)) return true;
                }
                return false;
            case JsonValueKind.Object:
                try
                {
                    foreach (var member in element.EnumerateObject())
                    {
                        if (member.Name.Contains('\0') || HasLoneSurrogate(member.Name) || HasBad(member.Value)) return true;
                    }
                }
                catch (InvalidOperationException)
                {
                    return true;
                }
                return false;
            default: return false;
        }
    }

    /// <summary>True when the text has half of a surrogate pair, which no well-formed UTF-8 can carry.</summary>
    public static bool HasLoneSurrogate(ReadOnlySpan<char> text)
    {
        if (!text.ContainsAnyInRange('\uD800', '\uDFFF')) return false;
        for (int i = 0; i < text.Length; i++)
        {
            if (!char.IsSurrogate(text[i])) continue;
            if (char.IsHighSurrogate(text[i]) && i + 1 < text.Length && char.IsLowSurrogate(text[i + 1])) i++;
            else return true;
        }
        return false;
    }
}
