using System.Diagnostics;
using System.Net.Http.Headers;
using System.Text;
using Rovett.Testing;

namespace Rovett.Bench;

/// <summary>A request of 1,000 notifications to one person each, beside plain SQLite that writes the same rows into the same tables with
/// prepared statements, 1,000 in a commit.</summary>
static class Bulk
{
    const int Items = PlainHistory.Items, Pairs = 5;
    static readonly TimeSpan Length = TimeSpan.FromSeconds(3);

    /// <summary>Measures, and answers what each of the pairs came to.</summary>
    public static async Task<List<(double Floor, double Rovett)>> Run()
    {
        var folder = Directory.CreateTempSubdirectory("rovett-bulk-").FullName;
        try
        {
            using var service = await ServiceProcess.Start(folder);
            using var http = new HttpClient { BaseAddress = service.Url };
            http.DefaultRequestHeaders.Authorization = new AuthenticationHeaderValue("Bearer", (string)service.Ready["credentials"]!["adminKey"]!);
            var body = Encoding.UTF8.GetBytes(string.Join('\n', Enumerable.Range(0, Items).Select(i =>
                $$$"""{"to":["user:person{{{i}}}"],"type":"engine.check.due","title":"Turnstone: bow thruster check due","link":"/vessels/turnstone/checks/{{{i}}}","data":{"pad":"{{{new string('x', 330)}}}"}}""")));
            async Task<double> Rovett()
            {
                long count = 0, start = Stopwatch.GetTimestamp();
                while (Stopwatch.GetElapsedTime(start) < Length)
                {
                    using var content = new ByteArrayContent(body);
                    content.Headers.ContentType = new MediaTypeHeaderValue("application/x-ndjson");
                    using var answer = await http.PostAsync("/v1/notifications", content);
                    answer.EnsureSuccessStatusCode();
                    count += Items;
                }
                return count / Stopwatch.GetElapsedTime(start).TotalSeconds;
            }
            for (int i = 0; i < 5; i++) await Rovett();
            var copy = Path.Combine(folder, "raw.db");
            PlainHistory.Copy(Path.Combine(folder, "data", "history.db"), copy);
            using var raw = new PlainHistory(copy);
            var all = new List<(double Floor, double Rovett)>();
            for (int i = 0; i < Pairs; i++)
            {
                double floor = Plain(raw), rovett = await Rovett();
                all.Add((floor, rovett));
                Console.WriteLine($"notifications/s: SQLite {floor:N0}, Rovett {rovett:N0}, ratio {rovett / floor:F2}");
            }
            var ratios = all.ConvertAll(p => p.Rovett / p.Floor).Order().ToList();
            Console.WriteLine($"median {ratios[Pairs / 2]:F2} [{ratios[0]:F2} – {ratios[^1]:F2}]");
            return all;
        }
        finally
        {
            Directory.Delete(folder, recursive: true);
        }
    }

    /// <summary>How many a second plain SQLite writes.</summary>
    static double Plain(PlainHistory history)
    {
        long count = 0, start = Stopwatch.GetTimestamp();
        while (Stopwatch.GetElapsedTime(start) < Length)
        {
            history.Begin();
            for (int i = 0; i < Items; i++) history.Add(i);
            history.Commit();
            count += Items;
        }
        return count / Stopwatch.GetElapsedTime(start).TotalSeconds;
    }
}
