using System.Text;
using System.Text.Json.Nodes;
using Rovett.Client;
using Rovett.Storage.Sqlite;
using Rovett.Testing;
using Shouldly;
using Xunit;

namespace Rovett.Faults;

/// <summary>A power cut leaves on the disk what was synced, and of the rest an unforeseeable part. A layer under the
/// service records every write and sync; the disk is rebuilt at random cut points, and every send that was answered
/// before the cut must be there. <c>ROVETT_CUTS</c> makes a long run of it.</summary>
public sealed class PowerCutTests
{
    static readonly int CutPoints = int.TryParse(Environment.GetEnvironmentVariable("ROVETT_CUTS"), out int cuts) ? cuts : 120;

    abstract record Effect(string File);
    sealed record Wrote(string File, long At, byte[] Bytes) : Effect(File);
    sealed record Synced(string File) : Effect(File);
    sealed record Truncated(string File, long Length) : Effect(File);
    sealed record Removed(string File) : Effect(File);

    [Fact]
    public async Task Whatever_was_answered_is_on_the_disk_at_every_cut()
    {
        var folder = Directory.CreateTempSubdirectory("rovett-powercut-").FullName;
        try
        {
            var record = Path.Combine(folder, "record");
            var answered = await Storm(folder, record);
            answered.Count.ShouldBeGreaterThan(500);
            var effects = Read(await File.ReadAllBytesAsync(record));
            effects.Select(e => e.Effect).OfType<Synced>().Count().ShouldBeGreaterThan(20);
            int seed = Environment.TickCount;
            var random = new Random(seed);
            int checkedSends = 0;
            for (int cut = 0; cut < CutPoints; cut++)
            {
                // Cuts at any effect after the first answer, half of them right after a sync, where syncing too late would show.
                int at = random.Next(effects.FindIndex(e => e.End >= answered[0].RecordLength) + 1, effects.Count + 1);
                checkedSends += CheckCut(Path.Combine(folder, "cut"), effects, at, answered, random,
                    $"seed {seed}, cut {cut} after {at} of {effects.Count} effects");
            }
            TestContext.Current.SendDiagnosticMessage(
                $"{answered.Count} answered sends, {effects.Count} effects, {CutPoints} cuts, {checkedSends} look-ups");
            if (CutPoints > 120)
            {
                File.AppendAllText(Path.Combine(Path.GetTempPath(), "rovett-cuts.txt"),
                    $"{answered.Count} answered sends, {effects.Count} effects, {CutPoints} cuts, {checkedSends} look-ups, seed {seed}\n");
            }
        }
        finally
        {
            Directory.Delete(folder, recursive: true);
        }
    }

    [Fact]
    public void Without_syncs_the_check_finds_what_is_lost()
    {
        // The checker itself can fail: the same rebuild, from a record whose syncs are left out, loses writes.
        var effects = new List<(Effect Effect, long End)> { (new Wrote("f", 0, [1, 2, 3, 4]), 1), (new Wrote("f", 4, [5]), 2) };
        var kept = new[] { 1, 2, 3, 4, 5, 6, 7, 8 }.Select(seed => Rebuild(effects, 2, new Random(seed))["f"].Length).ToList();
        kept.ShouldContain(0);
        effects.Insert(1, (new Synced("f"), 1));
        new[] { 1, 2, 3, 4, 5, 6, 7, 8 }.Select(seed => Rebuild(effects, 3, new Random(seed))["f"].Length).ShouldAllBe(n => n >= 4);
    }

    /// <summary>Sends from several sides under the recording layer; answers each id with how long the record was when the
    /// answer had come: what the answer rests on lies before that.</summary>
    static async Task<List<(string Id, long RecordLength)>> Storm(string folder, string record)
    {
        var layer = await Layer.Build(folder, "powercut");
        var answered = new List<(string, long)>();
        using var service = await ServiceProcess.Start(folder,
            environment: new Dictionary<string, string>
            { ["LD_PRELOAD"] = layer, ["POWERCUT_FOLDER"] = Path.Combine(folder, "data"), ["POWERCUT_RECORD"] = record });
        using var client = new RovettClient(service.Url, (string)service.Ready["credentials"]!["adminKey"]!);
        await Task.WhenAll(Enumerable.Range(0, 6).Select(async sender =>
        {
            for (int i = 0; i < 120; i++)
            {
                var answer = await client.Send(new JsonObject
                {
                    ["to"] = new JsonArray(i % 3 == 0 ? "role:engineer" : $"user:u{i % 20}"),
                    ["type"] = "t",
                    ["title"] = new string('x', i % 50 + 1)
                }, i % 4 == 0 ? $"{sender}-{i}" : null);
                long length = new FileInfo(record).Length;
                lock (answered) answered.Add(((string)answer["id"]!, length));
            }
        }));
        await service.Kill();
        return [.. answered.OrderBy(a => a.Item2)];
    }

    static List<(Effect Effect, long End)> Read(byte[] record)
    {
        var effects = new List<(Effect, long)>();
        for (int at = 0; at < record.Length;)
        {
            int end = Array.IndexOf(record, (byte)'\n', at);
            if (end < 0) break;
            var head = Encoding.UTF8.GetString(record, at, end - at).Split(' ');
            int length = int.Parse(head[3]);
            if (end + 1 + length > record.Length) break;
            Effect effect = head[0] switch
            {
                "w" => new Wrote(head[1], long.Parse(head[2]), record[(end + 1)..(end + 1 + length)]),
                "s" => new Synced(head[1]),
                "t" => new Truncated(head[1], long.Parse(head[2])),
                _ => new Removed(head[1]),
            };
            at = end + 1 + length;
            effects.Add((effect, at));
        }
        return effects;
    }

    /// <summary>The files as a cut after some effects may leave them: what was synced, and a random part of the rest.</summary>
    static Dictionary<string, byte[]> Rebuild(List<(Effect Effect, long End)> effects, int count, Random random)
    {
        var lastSync = new Dictionary<string, int>();
        for (int i = 0; i < count; i++)
        {
            if (effects[i].Effect is Synced synced) lastSync[synced.File] = i;
        }
        var files = new Dictionary<string, MemoryStream>();
        double survives = random.NextDouble();
        for (int i = 0; i < count; i++)
        {
            var effect = effects[i].Effect;
            // A removal is sure once the folder is synced, a write once its file is.
            bool sure = lastSync.TryGetValue(effect is Removed ? "." : effect.File, out int sync) && sync > i;
            if (effect.File == ".") continue;
            if (!files.TryGetValue(effect.File, out var file)) files[effect.File] = file = new MemoryStream();
            if (!sure && random.NextDouble() > survives) continue;
            switch (effect)
            {
                case Wrote w:
                    // A write that was under way may be torn.
                    int length = sure || random.Next(4) > 0 ? w.Bytes.Length : random.Next(w.Bytes.Length);
                    if (file.Length < w.At) file.SetLength(w.At);
                    file.Position = w.At;
                    file.Write(w.Bytes, 0, length);
                    break;
                case Truncated t: file.SetLength(t.Length); break;
                case Removed: file.SetLength(0); break;
            }
        }
        return files.ToDictionary(f => f.Key, f => f.Value.ToArray());
    }

    static int CheckCut(string folder, List<(Effect Effect, long End)> effects, int count, List<(string Id, long RecordLength)> answered,
        Random random, string which)
    {
        Directory.CreateDirectory(folder);
        foreach (var (name, bytes) in Rebuild(effects, count, random))
        {
            if (bytes.Length > 0) File.WriteAllBytes(Path.Combine(folder, name), bytes);
        }
        try
        {
            var path = Path.Combine(folder, SqliteFiles.HistoryName);
            using var store = SqliteFiles.OpenHistory(path);
            using var reader = SqliteFiles.ReadHistory(path);
            reader.Check().ShouldBeEmpty(which);
            var ids = reader.History(store.FindSpace("main")!.Id).Where(e => e.Id is not null).Select(e => e.Id!.Value.ToString())
                .ToHashSet();
            long length = effects[count - 1].End;
            int looked = 0;
            foreach (var (id, recordLength) in answered)
            {
                if (recordLength > length) break;
                ids.ShouldContain(id, which);
                looked++;
            }
            return looked;
        }
        finally
        {
            Directory.Delete(folder, recursive: true);
        }
    }
}
