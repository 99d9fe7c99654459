using Rovett.Service.Credentials;
using Rovett.Service.Spaces;
using Rovett.Storage.Access;

namespace Rovett.Service.Topics;

/// <summary>Registers topics and their deciders.</summary>
static class TopicsSetup
{
    public static IServiceCollection AddTopics(this IServiceCollection services) => services
        .AddSingleton<Deciders>()
        .AddSingleton<TopicGate>();

    /// <summary>Hears of deciders that another process changed.</summary>
    public static void FollowDeciders(this IServiceProvider provider, AccessNews news)
    {
        var (deciders, spaces) = (provider.GetRequiredService<Deciders>(), provider.GetRequiredService<SpaceDirectory>());
        news.On(AccessKinds.Deciders, name =>
        {
            foreach (var space in spaces.All.Where(s => name is null || s.Name == name)) deciders.Forget(space, null);
        });
    }
}
