using System.Text;

namespace Rovett.Bench;

/// <summary>What of the distance to the floor is taken by what any such service must do: the floor with more and more duties beside
/// Rovett, in one run. Writes a table into docs/performance.md.</summary>
static class DutyTable
{
    const int Rounds = 3, Behind = 50_000;
    static readonly string[] shown = ["sends", "cpu", "arrival", "new", "again", "one", "behind", "all-behind"];
    static readonly Duty?[] sides = [Duty.None, Duty.Reads, Duty.Stores, null];

    /// <param name="some">The rows to measure, by themselves; empty: all, which are written down.</param>
    public static async Task Run(string[] some)
    {
        var folder = Directory.CreateTempSubdirectory("rovett-duties-").FullName;
        try
        {
            var history = Path.Combine(folder, "history.db");
            await MakeHistory(history);
            var rows = Everything.Rows();
            foreach (var other in rows.Keys.Except(some.Length > 0 ? some : shown).ToList()) rows.Remove(other);
            var measured = rows.Values.ToDictionary(r => r, _ => sides.Select(_ => new List<double>()).ToArray());
            for (int round = 0; round < Rounds; round++)
            {
                for (int i = 0; i < sides.Length; i++)
                {
                    var duty = sides[i];
                    await Everything.OfAll(() => Side.Start(duty is not null, duty ?? Duty.None, duty == Duty.Stores ? history : null), rows,
                        (row, value) => measured[row][i].Add(value));
                }
                Console.WriteLine($"round {round + 1} of {Rounds} done");
            }
            var report = Report(measured);
            Console.WriteLine(report);
            if (some.Length == 0) await Everything.Replace("duties", report);
        }
        finally
        {
            Directory.Delete(folder, recursive: true);
        }
    }

    /// <summary>Rows to write again and to read: one notification of each person, and a log of many.</summary>
    static async Task MakeHistory(string copy)
    {
        using var side = await Side.Start(false);
        using (var sender = await Sender.Connect(side.Url.Port))
        {
            for (int i = 0; i < PlainHistory.Items; i++) await sender.Send(side.SendTo(i));
        }
        await side.Behind(1, Behind);
        side.CopyHistory(copy);
    }

    static string Report(Dictionary<Everything.Row, List<double>[]> measured)
    {
        var report = new StringBuilder("| what | | floor | and reads | and stores | Rovett | Rovett to the floor | Rovett to the floor that stores |\n" +
            "| --- | --- | --- | --- | --- | --- | --- | --- |\n");
        foreach (var (row, of) in measured)
        {
            report.Append($"| {row.What} | {row.Unit} | {string.Join(" | ", of.Select(o => Everything.Row.Number(Everything.Row.Median(o))))} | " +
                $"{Ratio(of[^1], of[0])} | {Ratio(of[^1], of[^2])} |\n");
        }
        return report.Append($"\nMeasured on {DateTime.UtcNow:yyyy-MM-dd}, {Rounds} rounds, all four in turn; medians.\n").ToString();
    }

    static string Ratio(List<double> rovett, List<double> floor)
    {
        var ratios = floor.Zip(rovett, (f, r) => r / f).Order().ToList();
        return $"{ratios[ratios.Count / 2]:F2} × [{ratios[0]:F2} – {ratios[^1]:F2}]";
    }
}
