using CsCheck;
using Rovett.Client;
using Rovett.Core.Addresses;
using Rovett.Core.Wire;
using Rovett.Service.Hosting;
using Rovett.Storage.Access;
using Shouldly;
using Xunit;

namespace Rovett.Core.Tests;

public class ValueTests
{
    static readonly byte[] Key = [.. Enumerable.Range(0, 32).Select(i => (byte)i)];

    [Fact]
    public void What_is_drawn_at_random_is_drawn_once()
    {
        var lengths = Enumerable.Range(0, 4).SelectMany(_ => Enumerable.Range(8, 600));
        var drawn = lengths.AsParallel().WithDegreeOfParallelism(4).SelectMany(length =>
        {
            var bytes = new byte[length];
            Chance.Fill(bytes);
            return bytes.Chunk(8).Where(c => c.Length == 8).Select(c => BitConverter.ToUInt64(c));
        }).ToList();
        drawn.Distinct().Count().ShouldBe(drawn.Count);
        drawn.Count.ShouldBeGreaterThan(80_000);
    }

    [Fact]
    public void A_cursor_is_of_one_length_and_opens_to_its_position() => Gen.Long[0, long.MaxValue].Sample(value =>
    {
        using var seal = new CursorSeal(Key, new Epoch(Guid.Empty), "main", "cursor");
        var cursor = seal.Seal(new Position(value));
        cursor.Length.ShouldBe(CursorSeal.Length);
        seal.Open(cursor, out var position).ShouldBe(CursorState.Valid);
        position.Value.ShouldBe(value);
        seal.Seal(new Position(value)).ShouldBe(cursor);
    }, iter: 200);

    [Fact]
    public void A_cursor_of_another_space_epoch_purpose_or_key_is_foreign()
    {
        var epoch = Epoch.New();
        using var seal = new CursorSeal(Key, epoch, "main", "cursor");
        CursorSeal[] others = [new(Key, epoch, "harbour", "cursor"), new(Key, Epoch.New(), "main", "cursor"),
            new(Key, epoch, "main", "page"), new([.. Key.Reverse()], epoch, "main", "cursor")];
        foreach (var other in others) other.Open(seal.Seal(new Position(7)), out _).ShouldBe(CursorState.Foreign);
    }

    [Fact]
    public void A_cursor_changed_in_any_character_is_refused()
    {
        using var seal = new CursorSeal(Key, Epoch.New(), "main", "cursor");
        var cursor = seal.Seal(new Position(41207));
        for (int i = 0; i < cursor.Length; i++)
        {
            foreach (char c in "Aa9_-")
            {
                if (cursor[i] == c) continue;
                var changed = cursor[..i] + c + cursor[(i + 1)..];
                // The last character carries four unused bits, which must be zero.
                seal.Open(changed, out _).ShouldNotBe(CursorState.Valid, changed);
            }
        }
        foreach (var text in new[] { "", "x", cursor + "A", cursor[1..], new string('ä', 22), cursor.Replace(cursor[3], '+') })
        {
            seal.Open(text, out _).ShouldNotBe(CursorState.Valid);
        }
    }

    [Fact]
    public void A_notification_id_reads_back_and_says_nothing_of_positions()
    {
        var time = DateTimeOffset.UnixEpoch.AddYears(56);
        var ids = Enumerable.Range(0, 1000).Select(_ => NotificationId.New(time)).ToList();
        ids.Distinct().Count().ShouldBe(1000);
        ids.ShouldAllBe(id => id.ToString().Length == 26);
        foreach (var id in ids)
        {
            NotificationId.TryParse(id.ToString(), out var back).ShouldBeTrue();
            back.ShouldBe(id);
        }
        // Made in the same millisecond, they are in no order.
        ids.Zip(ids.Skip(1)).Count(p => p.First.Value < p.Second.Value).ShouldBeInRange(300, 700);
        NotificationId.TryParse("8" + new string('Z', 25), out _).ShouldBeFalse();
        NotificationId.TryParse("01ARZ3NDEKTSV4RRFFQ69G5FAU", out _).ShouldBeFalse();
    }

    [Theory]
    [InlineData("user:mara", AddressKind.User, "mara")]
    [InlineData("role:harbour-desk", AddressKind.Role, "harbour-desk")]
    [InlineData("user:a:b", AddressKind.User, "a:b")]
    [InlineData("everyone", AddressKind.Everyone, "everyone")]
    [InlineData("user:e\u0301", AddressKind.User, "\u00e9")]
    public void Addresses_are_read_in_one_form(string text, AddressKind kind, string name)
    {
        Address.TryParse(text, out var address).ShouldBeNull();
        address.ShouldBe(new Address(kind, name));
    }

    [Theory]
    [InlineData("")]
    [InlineData("mara")]
    [InlineData("user:")]
    [InlineData("User:mara")]
    [InlineData("role:a/b")]
    [InlineData("topic:")]
    [InlineData("topic:/berth")]
    [InlineData("topic:berth//3")]
    [InlineData("topic:berth/../3")]
    [InlineData("topic:berth/{x}")]
    [InlineData("topic:berth/*")]
    [InlineData("topic:berth/\u200b3")]
    [InlineData("topic:berth/ 3")]
    [InlineData("user:a\u0000b")]
    [InlineData("user:a\nb")]
    [InlineData("everyone:all")]
    public void What_is_no_address_is_said_with_the_mend(string text) =>
    Address.TryParse(text, out _).ShouldNotBeNull().Length.ShouldBeGreaterThan(20);

    [Fact]
    public void Half_of_a_surrogate_pair_is_no_name() => Names.Check("a\ud800b", false, out _).ShouldNotBeNull();

    [Theory]
    [InlineData("a..\ufffeb")]
    [InlineData("\uffff")]
    [InlineData("x\ufdd0")]
    [InlineData("\U0001fffe")]
    public void What_unicode_calls_no_character_is_refused_with_its_number(string text) =>
    Names.Check(text, false, out _)!.ShouldContain("U+");

    [Fact]
    public void Names_may_have_128_characters_of_any_plane_and_no_more()
    {
        Names.Check(string.Concat(Enumerable.Repeat("𝄞", 128)), false, out _).ShouldBeNull();
        Names.Check(string.Concat(Enumerable.Repeat("𝄞", 129)), false, out _).ShouldNotBeNull();
    }

    [Fact]
    public void Equal_sets_of_addresses_are_one_audience_and_it_reads_back()
    {
        Address a = Address.Role("engineer"), b = Address.Role("bridge");
        var one = Audience.Of([a, b, Address.Everyone, a], [Address.Role("deckhand")])!;
        var two = Audience.Of([b, Address.Everyone, a, Address.User(new UserId("mara"))], [Address.Role("deckhand")])!;
        one.Key.ShouldBe(two.Key);
        Audience.Of([a, b], [])!.Key.ShouldNotBe(one.Key);
        Audience.Of([Address.User(new UserId("mara"))], []).ShouldBeNull();
        var back = Audience.Parse(one.Key);
        back.Includes.ShouldBe(one.Includes);
        back.Excludes.ShouldBe(one.Excludes);
    }

    [Fact]
    public void Dependencies_point_inward_only()
    {
        static string[] Rovett(Type type) =>
            [.. type.Assembly.GetReferencedAssemblies().Select(a => a.Name!)
            .Where(n => n.StartsWith("Rovett", StringComparison.Ordinal)
            || n.StartsWith("Microsoft.AspNetCore", StringComparison.Ordinal))];
        Rovett(typeof(Problem)).ShouldBeEmpty();
        Rovett(typeof(AccessStore)).ShouldBe(["Rovett.Core"]);
        Rovett(typeof(RovettClient)).ShouldBeEmpty();
        Rovett(typeof(RovettService)).ShouldNotContain("Rovett.Client");
        // The pure core knows neither files, sockets, threads nor the machine's clock.
        string[] io = ["System.Net.Sockets", "System.IO.FileSystem", "System.Net.Http", "Microsoft.Data.Sqlite", "System.Threading.Thread"];
        typeof(Problem).Assembly.GetReferencedAssemblies().Select(a => a.Name).ShouldNotContain(n => io.Contains(n));
    }
}
