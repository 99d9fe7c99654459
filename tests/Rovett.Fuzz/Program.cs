using System.Diagnostics;
using System.Globalization;
using System.Text;
using System.Text.Json;
using Microsoft.Extensions.Logging.Abstractions;
using Rovett.Core.Addresses;
using Rovett.Core.Catalogues;
using Rovett.Core.Choices;
using Rovett.Core.Events;
using Rovett.Core.Ledgers;
using Rovett.Core.Notifications;
using Rovett.Core.Rules;
using Rovett.Core.Wire;
using Rovett.Core.Wire.WebSockets;
using Rovett.Core.Yaml;
using Rovett.Service.Credentials;
using Rovett.Service.Events;
using Rovett.Service.Http;
using Rovett.Service.Outbound;
using Rovett.Service.Spaces;
using Rovett.Storage.Access;
using Rovett.Storage.Sqlite;
using Rovett.Testing;

namespace Rovett.Fuzz;

/// <summary>Feeds every parser broken input, in this process: <c>fuzz COUNT [SEED] [PARSER]</c>. Input is made from valid
/// examples by cutting, doubling, swapping and changing bytes. A parser may refuse; it may not throw anything else, hang,
/// or keep memory.</summary>
public static class Program
{
    const string Secret = "a secret that is long enough for hmac";
    static readonly CursorSeal Seal = new(new byte[32], Epoch.New(), "main", "cursor");
    static readonly SpaceRuntime Space = new(1, "main", Seal, Seal, Seal);
    static readonly DirectoryInfo Folder = Directory.CreateTempSubdirectory("rovett-fuzz-");
    static readonly Tokens Tokens = NewTokens();

    static readonly (string Name, byte[][] Examples, Func<byte[], bool> Parse)[] Parsers =
    [
        ("frames", [RawWebSocket.Frame(0x81, "{\"kind\":\"ack\"}"u8.ToArray()),
            [.. RawWebSocket.Frame(0x01, new byte[200]), .. RawWebSocket.Frame(0x89, [1]), .. RawWebSocket.Frame(0x80, new byte[70])],
                RawWebSocket.Frame(0x88, [3, 232, 98]), RawWebSocket.Frame(0x81, new byte[3000])], Frames),
        ("messages", Texts($$"""{"kind":"ack","upTo":"{{Seal.Seal(new Position(5))}}","handled":true,"requestId":"7"}""",
            """{"kind":"markRead","ids":["01M83TCXK2Z4J8Q5V6W7X8Y9ZA","01M83TCXK2Z4J8Q5V6W7X8Y9ZB"]}""",
            """{"kind":"attend","subject":"vessel/turnstone"}""", """{"kind":"take","id":"01M83TCXK2Z4J8Q5V6W7X8Y9ZA"}""",
            """{"kind":"markUnread","all":true}""", """{"kind":"say","topic":"berth/3","data":{"text":["é",1.5e3,null]},"self":true}""",
            """{"kind":"subscribe","topic":"berth/3"}"""),
            b => DeviceMessage.Parse(b, Seal).Problem is null),
        ("bodies", Texts(
            """{"to":["role:engineer"],"except":["user:teo"],"type":"engine.check.due","title":"Check","body":"Soon","subject":"vessel/turnstone","link":"/v/1","urgency":"high","ttl":7200,"slot":"check","takeable":true,"data":{"a":[1,2,{"b":null}]},"deadlines":[{"by":"read","within":"PT1M","who":"each","otherwise":{"to":["role:chief"],"type":"t","title":"x"}}]}""", """{"to":["everyone"],"type":"t","title":"x","store":false}"""), Body),
        ("cursors", Texts(Seal.Seal(new Position(1)), Seal.Seal(new Position(long.MaxValue))),
            b => Seal.Open(Encoding.UTF8.GetString(b), out _) == CursorState.Valid),
        ("names", Texts("mara", "deck-hand", "berth/3", "ıÅé", "a.b-c_d"),
            b => Names.Check(Encoding.UTF8.GetString(b), true, out _) is null),
        ("addresses", Texts("user:mara", "role:deck-hand", "everyone"), b => Address.TryParse(Encoding.UTF8.GetString(b), out _) is null),
        ("ids", Texts(NotificationId.New(DateTimeOffset.UnixEpoch).ToString()),
            b => NotificationId.TryParse(Encoding.UTF8.GetString(b), out _)),
        ("rules", Texts(File.ReadAllText(Path.Combine(ServiceProcess.Root, "demo", "rules.yaml")),
            """{"rules":[{"name":"r","event":["e","x.*"],"when":{"data:/a":{"atLeast":1,"not":[2]}},"to":{"each":"data:/l","address":"user:{{ item }}"},"gather":{"within":"10m"},"notification":{"title":"t","link":{"from":"data:/u","hosts":["h"]}}}]}"""),
            Rules),
        ("catalogues", Texts(
            """{"types":{"e":{"name":{"en":"E","de":"Ä"},"urgency":"high","always":true,"receipts":"full","carry":"summary"}},"events":{"e":{"data":{"type":"object","required":["a"],"properties":{"a":{"$ref":"#/$defs/b"},"l":{"type":"array","maxItems":9,"items":{"type":["integer","string"],"minimum":0}},"s":{"enum":["a","b"],"pattern":"^[a-z]+$"},"n":{"anyOf":[{"type":"number"},{"const":1}]}},"$defs":{"b":{"type":"object","additionalProperties":false,"properties":{"b":{"type":"string","format":"date-time"}}}}}}}}"""),
            Catalogue),
        ("quiet hours", Texts("""{"timeZone":"Europe/Berlin","hours":[{"days":["mon","sun"],"from":"22:00","to":"06:30"},{"from":"00:00","to":"24:00"}]}"""),
            Quiet),
        ("templates", Texts("{{ data.a.b | upcase | replace: 'x', 'y' }} and {{ type }}",
            "{% for i in data.l %}{% if i > 1 %}{{ i }}{% else %}{{ forloop.index }}{% endif %}{% endfor %}x",
            "{% case data.s %}{% when 'a', 'b' %}{{ data.n | plus: 1 | times: 2.5 }}{% else %}{{ data.t | date: '%H:%M' }}{% endcase %}x",
            "{% unless data.missing %}{{ data.l | join: ', ' | truncate: 9 }}{% endunless %}{{ data.none | default: \"-\" }}"), Template),
        ("events", Texts(
            """{"specversion":"1.0","id":"1","source":"/planning/1","type":"engine.check.due","subject":"v","time":"2027-06-14T09:30:00Z","severity":4,"traceparent":"00-1","data":{"a":{"b":"x"},"l":[1,2,"é"],"n":1.5e3}}""",
            """{"specversion":"1.0","id":"1","source":"/p","type":"t","datacontenttype":"application/json","data_base64":"eyJhIjoxfQ=="}"""), Event),
        ("tokens", Texts(TestTokens.Make(Secret, "mara", ["engineer"]), TestTokens.Make(Secret, "teo", [])), Token),
    ];

    /// <summary>Runs.</summary>
    public static int Main(string[] args)
    {
        long count = args.Length > 0 ? long.Parse(args[0], CultureInfo.InvariantCulture) : 100_000;
        int seed = args.Length > 1 ? int.Parse(args[1], CultureInfo.InvariantCulture) : Environment.TickCount;
        bool sound = true;
        foreach (var (name, examples, parse) in Parsers.Where(p => args.Length < 3 || p.Name == args[2])) sound &= Run(name, examples,
            parse, count, seed);
        return sound ? 0 : 1;
    }

    static readonly IncomingEvent Sample = new(
        new Dictionary<string, string> { ["id"] = "1", ["source"] = "/x", ["type"] = "e" },
        JsonElement.Parse("""{"a":{"b":"x"},"l":[1,2,"é"],"s":"a","n":1.50,"t":"2027-06-14T09:30:00Z","none":null}"""));
    static readonly RuleSetting Setting = new(DateTimeOffset.UnixEpoch, TimeZoneInfo.Utc, _ => new TypeTerms(ReceiptLevel.Totals));

    static bool Rules(byte[] input)
    {
        var mistakes = new List<RuleMistake>();
        var rules = RuleReader.Read(input, mistakes);
        if (mistakes.Count > 0) return false;
        foreach (var test in rules.Tests) test.Run(rules, Setting);
        rules.Apply(Sample, Setting);
        return true;
    }

    static bool Catalogue(byte[] input)
    {
        var mistakes = new List<RuleMistake>();
        var catalogue = CatalogueReader.Read(input, mistakes);
        if (mistakes.Count > 0) return false;
        foreach (var type in catalogue.Events) catalogue.MistakesIn(type.Type, Sample.Data, isStrict: true);
        return true;
    }

    static bool Quiet(byte[] input)
    {
        using var document = Json.Parse(input);
        var errors = new List<FieldError>();
        if (QuietHours.Read(document.RootElement, "quiet", errors) is not { } quiet) return false;
        var spans = quiet.Spans(DateTimeOffset.UnixEpoch.AddDays(20_000));
        return QuietHours.OfText(quiet.ToText())!.Spans(DateTimeOffset.UnixEpoch.AddDays(20_000)).SequenceEqual(spans) ? true
            : throw new InvalidOperationException("they do not come back as they were");
    }

    static bool Template(byte[] input)
    {
        var text = Encoding.UTF8.GetString(input);
        var document =
            $$$"""{"rules":[{"name":"r","event":"e","to":["user:m"],"notification":{"title":{{{JsonSerializer.Serialize(text)}}}}}]}""";
        var mistakes = new List<RuleMistake>();
        var rules = RuleReader.Read(Encoding.UTF8.GetBytes(document), mistakes);
        return mistakes.Count == 0 && rules.Apply(Sample, Setting)[0].Failure is null;
    }

    static bool Event(byte[] input)
    {
        using var document = Json.Parse(input);
        var found = EventReader.Structured(document.RootElement.Clone(), null);
        return IncomingEvent.Parse(found.Bytes).Hash.AsSpan().SequenceEqual(found.Hash) ? true
            : throw new InvalidOperationException("it does not come back as it was");
    }

    static bool Run(string name, byte[][] examples, Func<byte[], bool> parse, long count, int seed)
    {
        if (!examples.All(parse))
        {
            throw new InvalidOperationException($"{name}: an example is not valid, so nothing near one would be tried");
        }
        var random = new Random(seed);
        long taken = 0, slowest = 0, memoryBefore = 0;
        var watch = Stopwatch.StartNew();
        for (long i = 0; i < count; i++)
        {
            if (i == count / 10) memoryBefore = GC.GetTotalMemory(forceFullCollection: true);
            var input = Change(examples[random.Next(examples.Length)], random);
            long began = Stopwatch.GetTimestamp();
            try
            {
                if (parse(input)) taken++;
            }
            catch (ProblemException)
            {
                // refused, with what to do about it
            }
            catch (Exception error)
            {
                Console.Error.WriteLine($"{name}: input {i} of seed {seed} ({Convert.ToBase64String(input)}): {error}");
                return false;
            }
            slowest = Math.Max(slowest, Stopwatch.GetTimestamp() - began);
        }
        long grown = GC.GetTotalMemory(forceFullCollection: true) - memoryBefore;
        Console.WriteLine($"{name}: {count:N0} inputs, seed {seed}: {taken:N0} taken, the others refused; " +
            $"{count / watch.Elapsed.TotalSeconds:N0}/s, slowest {Stopwatch.GetElapsedTime(0, slowest).TotalMilliseconds:N0} ms, memory " +
            $"grown by {grown / 1024:N0} KiB");
        return grown < 16 << 20;
    }

    static byte[] Change(byte[] example, Random random)
    {
        var bytes = new List<byte>(example);
        for (int changes = random.Next(0, 6); changes > 0 && bytes.Count > 0; changes--)
        {
            int at = random.Next(bytes.Count), length = random.Next(1, Math.Min(16, bytes.Count - at) + 1);
            switch (random.Next(7))
            {
                case 0: bytes[at] = (byte)random.Next(256); break;
                case 1: bytes[at] ^= (byte)(1 << random.Next(8)); break;
                case 2: bytes.RemoveRange(at, length); break;
                case 3: bytes.InsertRange(random.Next(bytes.Count), bytes.GetRange(at, length)); break;
                case 4: bytes.RemoveRange(at, bytes.Count - at); break;
                case 5: bytes.InsertRange(at, Spices[random.Next(Spices.Length)]); break;
                default: bytes[at] = (byte)"\"{}[],:\\0-9.eE%/"[random.Next(16)]; break;
            }
        }
        return [.. bytes];
    }

    static readonly byte[][] Spices =
        [.. new[] { "\\ud800", "\"\":", "1e999", "-0", "99999999999999999999", "[[[[[[[[[[", "{\"a\":{\"a\":{\"a\":", "\u0000", "\u202e",
        "\ufeff", "null", "true", "../", "\r\n", "'" }.Select(Encoding.UTF8.GetBytes), [0xff, 0xfe], [0xc0, 0x80],
            [0x7f, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff]];

    static byte[][] Texts(params string[] texts) => [.. texts.Select(Encoding.UTF8.GetBytes)];

    static bool Frames(byte[] input)
    {
        var reader = new FrameReader(4096);
        var span = new ReadOnlySpan<byte>(input);
        try
        {
            for (int steps = 0; ; steps++)
            {
                if (steps > input.Length + 2) throw new InvalidOperationException("it goes round without end");
                switch (reader.Read(ref span))
                {
                    case FrameEvent.NeedMore: return true;
                    case FrameEvent.Close: return reader.Code == 1000;
                    case FrameEvent.Failed: return false;
                }
            }
        }
        finally
        {
            reader.Release();
        }
    }

    static bool Body(byte[] input)
    {
        using var document = Json.Parse(input);
        NotificationReader.Read(document.RootElement, _ => new TypeTerms(ReceiptLevel.Totals), out _);
        return true;
    }

    static Tokens NewTokens()
    {
        var store = SqliteFiles.OpenAccess(Path.Combine(Folder.FullName, "access.db"));
        store.AddSigningKey(new StoredSigningKey("main", "first", SigningKeyKind.Secret, null, Encoding.UTF8.GetBytes(Secret), 0));
        AppDomain.CurrentDomain.ProcessExit += (_, _) =>
        {
            store.Dispose();
            Folder.Delete(recursive: true);
        };
        var clock = new ServiceClock(TimeProvider.System);
        var spaces = new SpaceDirectory(clock);
        spaces.Add(Space);
        return new Tokens(spaces,
            new SigningKeys(store, new KeySets(new OutboundGuard([]), Folder.FullName, clock, NullLogger<KeySets>.Instance)),
            new StandIns(store, clock), clock);
    }

    static bool Token(byte[] input)
    {
        Tokens.Check(Encoding.UTF8.GetString(input), Space).AsTask().GetAwaiter().GetResult();
        return true;
    }
}
