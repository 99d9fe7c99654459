using System.Diagnostics;
using Npgsql;
using Rovett.Storage.Postgres;

namespace Rovett.CoreBench;

/// <summary>What the end of a batch costs (the term's row, the batch's number, old numbers let go, the commit) while a snapshot stays open
/// for minutes, as a backup's does: nothing that was updated or deleted can be cleaned up meanwhile.</summary>
static class Fences
{
    const int Rows = 1;

    /// <param name="database">An empty database, as a connection string.</param>
    /// <param name="seconds">For how long.</param>
    public static void Run(string database, int seconds)
    {
        PostgresHistory.Open(database).Dispose(); // makes the tables
        using var hold = new PostgresHold(database);
        using var writer = new PostgresWriter(database + ";Pooling=false;Max Auto Prepare=200;Auto Prepare Min Usages=2", hold);
        writer.Begin();
        writer.Run("CREATE TABLE fence_bench (n bigint)");
        writer.Commit([Rows]);
        using var snapshot = new NpgsqlConnection(database + ";Pooling=false");
        snapshot.Open();
        using (var open = new NpgsqlCommand("BEGIN ISOLATION LEVEL REPEATABLE READ; SELECT count(*) FROM space_owner", snapshot))
        {
            open.ExecuteNonQuery();
        }
        var times = new List<double>();
        double first = 0;
        long began = Stopwatch.GetTimestamp(), total = 0;
        int second = 0, shown = 0;
        while (second < seconds)
        {
            writer.Begin(lasting: false);
            writer.Run("INSERT INTO fence_bench VALUES (?1)", total);
            long at = Stopwatch.GetTimestamp();
            writer.Commit([Rows]);
            times.Add(Stopwatch.GetElapsedTime(at).TotalMicroseconds);
            total++;
            if ((int)Stopwatch.GetElapsedTime(began).TotalSeconds == second) continue;
            second = (int)Stopwatch.GetElapsedTime(began).TotalSeconds;
            double median = times.Order().ElementAt(times.Count / 2);
            times.Clear();
            if (first == 0) first = median;
            if (second < shown) continue;
            shown = second + 30;
            Console.WriteLine($"second {second,4}: {median:0} us a batch, {median / first:0.00} x the first second; {total:N0} batches");
        }
    }
}
