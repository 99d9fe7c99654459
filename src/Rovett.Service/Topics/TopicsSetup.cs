namespace Rovett.Service.Topics;

/// <summary>Registers topics and their deciders.</summary>
static class TopicsSetup
{
    public static IServiceCollection AddTopics(this IServiceCollection services) => services
        .AddSingleton<Deciders>()
        .AddSingleton<TopicGate>();
}
