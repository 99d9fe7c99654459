using Rovett.Service.Limits;
using Shouldly;
using Xunit;

namespace Rovett.Service.Tests;

/// <summary>How spaces that send at the same time share what is carried out at a time.</summary>
public sealed class SpaceSharesTests
{
    readonly SpaceShares shares = new(4, TimeProvider.System);

    ValueTask<bool> Enter(string space, int items = 1) => shares.Enter(space, shares.PlacesOf(items), CancellationToken.None);

    [Fact]
    public async Task One_space_alone_has_all()
    {
        for (int i = 0; i < 50; i++) (await Enter("yard", 300)).ShouldBeTrue();
    }

    [Fact]
    public async Task While_another_sends_too_each_has_its_share_and_the_rest_waits_in_order()
    {
        (await Enter("harbour")).ShouldBeTrue();
        for (int i = 0; i < 4; i++) (await Enter("yard")).ShouldBeTrue();
        var (fifth, sixth) = (Enter("yard").AsTask(), Enter("yard").AsTask());
        fifth.IsCompleted.ShouldBeFalse();
        (await Enter("harbour")).ShouldBeTrue("the other is not concerned");
        shares.Leave("yard", 1);
        (await fifth).ShouldBeTrue();
        sixth.IsCompleted.ShouldBeFalse();
        shares.Leave("yard", 1);
        (await sixth).ShouldBeTrue();
    }

    [Fact]
    public async Task Much_at_once_takes_the_whole_share_and_is_let_in_when_there_is_nothing_else()
    {
        shares.PlacesOf(1).ShouldBe(1);
        shares.PlacesOf(1000).ShouldBe(4);
        (await Enter("harbour")).ShouldBeTrue();
        (await Enter("yard", 1000)).ShouldBeTrue();
        var next = Enter("yard").AsTask();
        next.IsCompleted.ShouldBeFalse();
        shares.Leave("yard", 4);
        (await next).ShouldBeTrue();
    }

    [Fact]
    public async Task Who_goes_away_while_waiting_takes_nothing()
    {
        (await Enter("harbour")).ShouldBeTrue();
        for (int i = 0; i < 4; i++) (await Enter("yard")).ShouldBeTrue();
        using var gone = new CancellationTokenSource();
        var left = shares.Enter("yard", 1, gone.Token).AsTask();
        var stays = Enter("yard").AsTask();
        await gone.CancelAsync();
        (await left).ShouldBeFalse();
        shares.Leave("yard", 1);
        (await stays).ShouldBeTrue();
    }
}
