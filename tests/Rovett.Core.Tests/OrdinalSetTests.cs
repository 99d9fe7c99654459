using CsCheck;
using Rovett.Core.Marks;
using Shouldly;
using Xunit;

namespace Rovett.Core.Tests;

public class OrdinalSetTests
{
    const int Size = 3 * OrdinalSet.BlockSize;

    // Short runs, long ones, and ones that begin or end at the edges of words and blocks.
    static readonly Gen<long> Ordinal = Gen.OneOf(Gen.Long[1, Size],
        Gen.Int[0, 3].Select(Gen.Int[-1, 2], (b, d) => Math.Clamp(b * (long)OrdinalSet.BlockSize + d, 1, Size)), Gen.Long[1, 130]);
    static readonly Gen<(bool Add, OrdinalRun Run)> Step = Gen.Select(Gen.Bool, Ordinal, Ordinal,
        (add, a, b) => (add, new OrdinalRun(Math.Min(a, b), Math.Max(a, b))));

    [Fact]
    public void Holds_what_a_plain_set_holds_after_any_history() => Step.List[1, 12].Sample(steps =>
    {
        var set = new OrdinalSet();
        var plain = new HashSet<long>();
        foreach (var (add, run) in steps)
        {
            if (add) set.Add(run);
            else set.Remove(run);
            for (long o = run.From; o <= run.To; o++) _ = add ? plain.Add(o) : plain.Remove(o);
        }
        for (long o = 1; o <= Size; o++) set.Contains(o).ShouldBe(plain.Contains(o));
        var runs = new List<OrdinalRun>();
        set.Runs(0, Size, present: true, runs);
        runs.Sum(r => r.Count).ShouldBe(plain.Count);
        runs.Zip(runs.Skip(1)).ShouldAllBe(p => p.First.To + 1 < p.Second.From);
    }, iter: 300);

    [Fact]
    public void Counts_what_is_in_none_of_three() =>
    Gen.Select(Step.List[0, 6], Step.List[0, 6], Step.List[0, 6], Gen.Select(Ordinal, Ordinal)).Sample((a, b, c, range) =>
    {
        var sets = new[] { a, b, c }.Select(steps =>
        {
            var set = new OrdinalSet();
            foreach (var (add, run) in steps)
            {
                if (add) set.Add(run);
                else set.Remove(run);
            }
            return set;
        }).ToArray();
        long lo = Math.Min(range.Item1, range.Item2) - 1, hi = Math.Max(range.Item1, range.Item2);
        long expected = 0;
        for (long o = lo + 1; o <= hi; o++) expected += sets.Any(s => s.Contains(o)) ? 0 : 1;
        OrdinalSet.CountInNone(lo, hi, new DeadSet(), sets).ShouldBe(expected);
    }, iter: 300);

    [Fact]
    public void Comes_back_from_what_changed_alone() => Step.List[1, 5].List[1, 4].Sample(batches =>
    {
        var set = new OrdinalSet();
        var stored = new Stored();
        long storedLine = 0;
        foreach (var batch in batches)
        {
            foreach (var (add, run) in batch)
            {
                if (add) set.Add(run);
                else set.Remove(run);
            }
            if (set.LineChanged) storedLine = set.Line;
            foreach (int block in set.ChangedBlocks)
            {
                if (set.StoredBlock(block) is { } bits) stored[block] = bits;
                else stored.Remove(block);
            }
            set.ClearChanges();
        }
        var back = new OrdinalSet(storedLine, stored);
        for (long o = 1; o <= Size; o++) back.Contains(o).ShouldBe(set.Contains(o));
    }, iter: 300);

    sealed class Stored : SortedDictionary<int, (byte[] Bits, int Count)>, IBlockSource
    {
        public IReadOnlyList<(int Block, int Count)> List() => [.. this.Select(b => (b.Key, b.Value.Count))];
        public byte[] Load(int block) => this[block].Bits;
    }

    [Fact]
    public void The_dead_are_counted_by_rank_and_come_back() =>
    Gen.Select(Ordinal.List[0, 400], Gen.Select(Ordinal, Ordinal), Gen.Int[1, 399]).Sample((turns, range, restartAt) =>
    {
        var set = new DeadSet();
        var stored = new Stored();
        var plain = new HashSet<long>();
        for (int i = 0; i < turns.Count; i++)
        {
            if (plain.Add(turns[i])) set.Add(turns[i]).ShouldBeTrue();
            else
            {
                plain.Remove(turns[i]);
                set.Remove(turns[i]).ShouldBeTrue();
            }
            if (i != restartAt) continue;
            foreach (int block in set.ChangedBlocks)
            {
                if (set.StoredBlock(block) is { } bits) stored[block] = bits;
            }
            set = new DeadSet(stored);
        }
        long lo = Math.Min(range.Item1, range.Item2) - 1, hi = Math.Max(range.Item1, range.Item2);
        set.Count(lo, hi).ShouldBe(plain.Count(o => o > lo && o <= hi));
        set.Trim(lo);
        set.Count(lo, hi).ShouldBe(plain.Count(o => o > lo && o <= hi));
    }, iter: 300);

    [Fact]
    public void Reading_a_log_from_its_start_keeps_a_line_and_no_blocks()
    {
        var set = new OrdinalSet();
        for (long o = 1; o <= 20_000; o++) set.Add(new OrdinalRun(o, o));
        set.Line.ShouldBe(20_000);
        set.StoredBlock(0).ShouldBeNull();
    }
}
