using Rovett.Client;

namespace Rovett.Faults.Intakes;

/// <summary>What a person was told.</summary>
static class ToldTitles
{
    /// <summary>The titles in the inbox of a client's user, oldest first.</summary>
    public static async Task<List<string>> Titles(this RovettClient client)
    {
        var titles = new List<string>();
        for (var path = "/v1/inbox?limit=100"; path is not null;)
        {
            var page = await client.Call(HttpMethod.Get, path);
            titles.AddRange(page["items"]!.AsArray().Select(i => (string)i!["title"]!));
            path = (string?)page["next"];
        }
        titles.Reverse();
        return titles;
    }
}
