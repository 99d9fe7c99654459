using Rovett.Service.Cluster;
using Rovett.Storage.Postgres;
using Shouldly;
using Xunit;

namespace Rovett.Service.Tests;

/// <summary>What follows from which nodes can't reach which.</summary>
public sealed class PartitionTests
{
    static readonly Guid[] Lives = [.. Enumerable.Range(0, 4).Select(_ => Guid.NewGuid())];

    /// <summary>Nodes a, b, …: whom each can't reach, and the spaces by their nodes.</summary>
    static ClusterNow Now(string spaces, params string[] unreached) => new(
        [.. unreached.Select((lost, i) => new NodeRow($"https://{(char)('a' + i)}", Lives[i], "", null, TimeSpan.FromMinutes(1),
            TimeSpan.Zero, false, true, [.. lost.Select(c => Lives[c - 'a'])]))],
        [.. spaces.Select((c, i) => new OwnedSpace(i, $"space-{i}", 1, Lives[c - 'a'], null))], Epoch.New(), DateTimeOffset.UtcNow);

    static string CutOff(ClusterNow now) => Those(now, n => Partition.IsCutOff(now, n));

    static string Alone(ClusterNow now) => Those(now, n => Partition.IsAlone(now, n));

    static string Those(ClusterNow now, Func<NodeRow, bool> are) => string.Concat(now.Nodes.Where(are).Select(n => n.Url[^1]));

    [Theory]
    [InlineData("aaa", new[] { "", "" }, "", "all reach each other")]
    [InlineData("aaa", new[] { "b", "a" }, "b", "of two, the one that serves stays")]
    [InlineData("ab", new[] { "b", "a" }, "", "where neither reaches more, both stay")]
    [InlineData("aab", new[] { "b", "a" }, "b", "whoever reaches more stays")]
    [InlineData("a", new[] { "b", "a", "" }, "b", "the one that can't reach the only one that serves")]
    [InlineData("abc", new[] { "b", "a", "" }, "ab", "requests for either can go through the third")]
    [InlineData("c", new[] { "b", "a", "" }, "", "nothing is asked of either")]
    [InlineData("abcd", new[] { "cd", "cd", "ab", "ab" }, "", "of two equal halves both stay")]
    [InlineData("aabcd", new[] { "cd", "cd", "ab", "ab" }, "cd", "of two halves the one that reaches more")]
    [InlineData("aaab", new[] { "bc", "a", "a" }, "bc", "one that serves much and nobody reaches, for as long as it serves")]
    public void Requests_go_to_those_that_reach_the_nodes_of_most_spaces(string spaces, string[] unreached, string cutOff, string why) =>
        CutOff(Now(spaces, unreached)).ShouldBe(cutOff, why);

    [Theory]
    [InlineData(new[] { "b", "a" }, "", "of two, neither knows which")]
    [InlineData(new[] { "bc", "a", "a" }, "a", "two say so")]
    [InlineData(new[] { "", "a", "a" }, "a", "also when it reaches them")]
    [InlineData(new[] { "b", "a", "" }, "", "one reaches it")]
    [InlineData(new[] { "cd", "cd", "ab", "ab" }, "", "each is reached by one")]
    public void Whom_nobody_reaches_serves_nothing(string[] unreached, string alone, string why)
    {
        var now = Now("a", unreached);
        Alone(now).ShouldBe(alone, why);
        Placing.Candidates(now, []).Select(n => n.Url[^1]).ShouldBe(now.Nodes.Select(n => n.Url[^1]).Except(alone));
    }
}
