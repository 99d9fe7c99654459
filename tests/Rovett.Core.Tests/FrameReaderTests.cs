using System.Text;
using CsCheck;
using Rovett.Core.Wire.WebSockets;
using Rovett.Testing;
using Shouldly;
using Xunit;

namespace Rovett.Core.Tests;

/// <summary>RFC 6455 §5 by hand-made bytes.</summary>
public class FrameReaderTests
{
    const int Limit = 70_000;

    /// <summary>Feeds the bytes in pieces and writes down what is found.</summary>
    static List<string> Read(byte[] bytes, int piece = int.MaxValue, int limit = Limit)
    {
        var reader = new FrameReader(limit);
        var found = new List<string>();
        for (int at = 0; at < bytes.Length;)
        {
            int count = Math.Min(piece, bytes.Length - at);
            var span = new ReadOnlySpan<byte>(bytes, at, count);
            at += count;
            for (; ; )
            {
                var e = reader.Read(ref span);
                if (e == FrameEvent.NeedMore) break;
                found.Add(e switch
                {
                    FrameEvent.Close or FrameEvent.Failed => $"{e} {reader.Code}",
                    _ => $"{e} {Encoding.UTF8.GetString(reader.Payload)}",
                });
                if (e is FrameEvent.Failed or FrameEvent.Close) return found;
            }
        }
        return found;
    }

    static byte[] Text(string text, int first = 0x81) => RawWebSocket.Frame(first, Encoding.UTF8.GetBytes(text));

    static byte[] Join(params byte[][] parts) => [.. parts.SelectMany(p => p)];

    [Fact]
    public void Reads_a_message_however_the_bytes_are_cut()
    {
        var bytes = Join(Text("{\"kind\":\"ack\"}"), Text("größer €𝄞"), Text(new string('x', 300)), Text(new string('y', 66_000)));
        var whole = Read(bytes);
        whole.Count.ShouldBe(4);
        foreach (int piece in new[] { 1, 2, 3, 7, 125, 4096 }) Read(bytes, piece).ShouldBe(whole);
    }

    [Fact]
    public void Joins_fragments_and_takes_control_frames_between_them() =>
        Read(Join(Text("one ", 0x01), RawWebSocket.Frame(0x89, "p"u8), Text("two ", 0x00), RawWebSocket.Frame(0x8A, "q"u8),
        Text("three", 0x80)), 1)
            .ShouldBe(["Ping p", "Pong q", "Text one two three"]);

    [Fact]
    public void Takes_a_character_cut_at_every_byte_between_fragments()
    {
        var bytes = Encoding.UTF8.GetBytes("a€𝄞z");
        for (int cut = 0; cut <= bytes.Length; cut++)
            Read(Join(RawWebSocket.Frame(0x01, bytes.AsSpan(0, cut)), RawWebSocket.Frame(0x80, bytes.AsSpan(cut))))
                .ShouldBe(["Text a€𝄞z"]);
    }

    [Fact]
    public void Empty_messages_and_empty_fragments_are_messages() =>
        Read(Join(Text(""), Text("", 0x01), Text("", 0x00), Text("x", 0x80), Text(""))).ShouldBe(["Text ", "Text x", "Text "]);

    [Theory]
    [InlineData(0xC1, "1002")] // RSV1 without an extension
    [InlineData(0xA1, "1002")]
    [InlineData(0x91, "1002")]
    [InlineData(0x83, "1002")] // reserved opcodes
    [InlineData(0x8B, "1002")]
    [InlineData(0x80, "1002")] // a continuation of nothing
    [InlineData(0x09, "1002")] // a fragmented ping
    [InlineData(0x82, "1003")] // binary
    public void Refuses_first_bytes_that_may_not_be(int first, string code) =>
    Read(RawWebSocket.Frame(first, "x"u8)).ShouldBe([$"Failed {code}"]);

    [Fact]
    public void Refuses_a_frame_that_is_not_masked() => Read(RawWebSocket.Frame(0x81, "x"u8, masked: false)).ShouldBe(["Failed 1002"]);

    [Fact]
    public void Refuses_a_new_message_inside_a_fragmented_one() => Read(Join(Text("a", 0x01), Text("b"))).ShouldBe(["Failed 1002"]);

    [Theory]
    [InlineData(5, 2)] // five bytes in the 16-bit form
    [InlineData(5, 8)]
    [InlineData(300, 8)]
    public void Refuses_a_length_that_is_not_in_its_shortest_form(int length, int form) =>
        Read(RawWebSocket.Frame(0x81, new byte[length], lengthForm: form)).ShouldBe(["Failed 1002"]);

    [Fact]
    public void Refuses_a_control_frame_over_125_bytes() => Read(RawWebSocket.Frame(0x89, new byte[126])).ShouldBe(["Failed 1002"]);

    [Fact]
    public void Takes_a_control_frame_of_125_bytes() => Read(RawWebSocket.Frame(0x89, new byte[125]), 3).Single().ShouldStartWith("Ping");

    [Fact]
    public void Refuses_a_64_bit_length_before_any_of_it_came()
    {
        Read([0x81, 0xFF, 0, 0, 0, 1, 0, 0, 0, 0, 1, 2, 3, 4]).ShouldBe(["Failed 1009"]);
        Read([0x81, 0xFF, 0x80, 0, 0, 0, 0, 0, 0, 0, 1, 2, 3, 4]).ShouldBe(["Failed 1002"]);
    }

    [Fact]
    public void Refuses_fragments_that_together_are_too_long() =>
        Read(Join(RawWebSocket.Frame(0x01, new byte[600]), RawWebSocket.Frame(0x80, new byte[600])), limit: 1000).ShouldBe(["Failed 1009"]);

    [Theory]
    [InlineData(new byte[] { 0xC0, 0x80 })] // overlong
    [InlineData(new byte[] { 0xE0, 0x80, 0x80 })]
    [InlineData(new byte[] { 0xED, 0xA0, 0x80 })] // a surrogate
    [InlineData(new byte[] { 0xF5, 0x80, 0x80, 0x80 })] // above U+10FFFF
    [InlineData(new byte[] { 0x80 })]
    [InlineData(new byte[] { 0xE2, 0x82 })] // ends inside a character
    public void Refuses_text_that_is_not_utf8(byte[] payload) => Read(RawWebSocket.Frame(0x81, payload), 1).ShouldBe(["Failed 1007"]);

    [Fact]
    public void Refuses_bad_utf8_at_its_first_byte_without_waiting_for_the_end()
    {
        var bytes = RawWebSocket.Frame(0x01, [(byte)'a', 0xFF, .. new byte[50]]);
        Read(bytes[..8]).ShouldBe(["Failed 1007"]);
    }

    [Theory]
    [InlineData(new byte[0], "Close 1005")]
    [InlineData(new byte[] { 3 }, "Failed 1002")]
    [InlineData(new byte[] { 3, 0xE8 }, "Close 1000")]
    [InlineData(new byte[] { 3, 0xED }, "Failed 1002")] // 1005 may not be sent
    [InlineData(new byte[] { 3, 0xEE }, "Failed 1002")] // 1006 neither
    [InlineData(new byte[] { 0, 1 }, "Failed 1002")]
    [InlineData(new byte[] { 0x0B, 0xB8 }, "Close 3000")]
    [InlineData(new byte[] { 0x13, 0x88 }, "Failed 1002")] // 5000
    [InlineData(new byte[] { 3, 0xE8, 0xFF }, "Failed 1007")]
    public void Reads_close_frames_as_the_standard_has_them(byte[] payload, string expected) =>
    Read(RawWebSocket.Frame(0x88, payload)).ShouldBe([expected]);

    [Fact]
    public void Never_throws_and_reads_the_same_in_any_pieces() =>
    Gen.Select(Gen.Byte.Array[0, 200], Gen.Int[1, 20]).Sample((bytes, piece) =>
        Read(bytes, piece).ShouldBe(Read(bytes)), iter: 20_000);

    [Fact]
    public void Utf8_is_judged_as_the_platform_judges_it() =>
    Gen.OneOf(Gen.Byte.Array[0, 12], Gen.String[0, 6].Select(s => Encoding.UTF8.GetBytes(s))).Sample(bytes =>
    {
        bool strict;
        try
        {
            new UTF8Encoding(false, true).GetCharCount(bytes);
            strict = true;
        }
        catch (DecoderFallbackException)
        {
            strict = false;
        }
        for (int cut = 0; cut <= bytes.Length; cut++)
        {
            var check = default(Utf8Check);
            (check.Take(bytes.AsSpan(0, cut)) && check.Take(bytes.AsSpan(cut)) && check.Complete).ShouldBe(strict);
        }
    }, iter: 20_000);

    [Fact]
    public void Writes_lengths_in_their_shortest_form_and_answers_the_handshake_of_the_standard()
    {
        foreach (int length in new[] { 0, 125, 126, 65_535, 65_536 })
        {
            var frame = FrameWriter.Text(new byte[length]);
            frame.Length.ShouldBe(length + (length < 126 ? 2 : length < 65_536 ? 4 : 10));
            frame[0].ShouldBe((byte)0x81);
        }
        FrameWriter.Accept("dGhlIHNhbXBsZSBub25jZQ==").ShouldBe("s3pPLMBiTxaQ9kYGzzhZRbK+xOo="); // RFC 6455 §1.3
        FrameWriter.Accept("short").ShouldBeNull();
    }
}
