using System.Text;
using System.Text.Json;
using Rovett.Core.Notifications;
using Shouldly;
using Xunit;

namespace Rovett.Core.Tests;

/// <summary>Reading what backends send: texts that are kept out, and what one reading leaves to the next.</summary>
public sealed class NotificationReaderTests
{
    [Theory]
    [InlineData("""{"a":"plain","b":[1,true,null,"é"]}""", false)]
    [InlineData("""{"a":"a line\nand \"more\" \u00e9 \ud83d\ude80"}""", false)]
    [InlineData("""{"a":{"b":["deep","\u0000"]}}""", true)]
    [InlineData("""["whole","half \ud83d"]""", true)]
    [InlineData("""["half \ude80 a pair"]""", true)]
    [InlineData("""{"na\u0000me":1}""", true)]
    [InlineData("""{"na\ud800me":1}""", true)]
    [InlineData("""["\\u0000 that is only written out"]""", false)]
    public void Null_characters_and_half_pairs_are_found_wherever_they_are(string json, bool isBad)
    {
        using var document = JsonDocument.Parse(Encoding.UTF8.GetBytes(json));
        JsonText.HasBadText(document.RootElement).ShouldBe(isBad);
    }

    [Fact]
    public void Bytes_that_are_no_text_are_bad()
    {
        using var document = JsonDocument.Parse(new byte[] { (byte)'"', 0xC3, 0x28, (byte)'"' });
        JsonText.HasBadText(document.RootElement).ShouldBeTrue();
    }

    [Fact]
    public void What_is_read_has_nothing_of_what_was_read_before()
    {
        var expected = Body("short");
        Body(new string('x', 200));
        Should.Throw<ProblemException>(() => Body(""));
        using (var data = JsonDocument.Parse($"\"{new string('y', 16_000)}\"")) Body("long", data.RootElement);
        Body("short").ShouldBe(expected);
        expected.ShouldBe("\"type\":\"engine.check.due\",\"title\":\"short\",\"urgency\":\"normal\"");
    }

    static string Body(string title, JsonElement? data = null)
    {
        var json = JsonSerializer.SerializeToUtf8Bytes(new Dictionary<string, object?>
        { ["to"] = new[] { "user:mara" }, ["type"] = "engine.check.due", ["title"] = title, ["data"] = data });
        if (data is null) json = Encoding.UTF8.GetBytes(Encoding.UTF8.GetString(json).Replace(",\"data\":null", ""));
        using var document = JsonDocument.Parse(json);
        return Encoding.UTF8.GetString(NotificationReader.Read(document.RootElement, _ => new TypeTerms(ReceiptLevel.Totals), out _).Body);
    }
}
