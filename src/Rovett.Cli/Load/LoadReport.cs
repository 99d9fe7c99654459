using System.Globalization;
using System.Net;
using System.Text.Json.Nodes;
using HdrHistogram;
using OxyPlot;
using OxyPlot.Axes;
using OxyPlot.Series;
using Spectre.Console;

namespace Rovett.Cli.Load;

/// <summary>What a load test has found, as JSON, in a terminal and as a page.</summary>
/// <param name="at">The service.</param>
/// <param name="plan">The plan.</param>
/// <param name="count">What was counted.</param>
/// <param name="time">When it was made.</param>
sealed class LoadReport(Uri at, LoadPlan plan, LoadCount count, DateTimeOffset time)
{
    static readonly CultureInfo C = CultureInfo.InvariantCulture;

    readonly (long Expected, long Missing, long Twice) judged = count.Judge();

    /// <summary>Everything that was answered arrived, once.</summary>
    public bool IsRight => judged is { Missing: 0, Twice: 0 };

    int Refused => count.Refused.Values.Sum();

    string Verdict => IsRight
        ? Refused == 0 ? "Everything arrived exactly once." : $"Everything accepted arrived exactly once; {Refused} sends were refused."
        : $"{judged.Missing} deliveries are missing and {judged.Twice} came twice.";

    static JsonObject Times(LongConcurrentHistogram h) => new()
    {
        ["p50"] = Ms(h, 50),
        ["p95"] = Ms(h, 95),
        ["p99"] = Ms(h, 99),
        ["longest"] = h.TotalCount == 0 ? null : Math.Round(h.GetMaxValue() / 1000.0, 1),
    };

    static double? Ms(LongConcurrentHistogram h, double percentile) =>
        h.TotalCount == 0 ? null : Math.Round(h.GetValueAtPercentile(percentile) / 1000.0, 1);

    public JsonObject Json() => new()
    {
        ["service"] = at.ToString(),
        ["time"] = time.UtcDateTime.ToString("yyyy-MM-dd'T'HH:mm:ss'Z'", C),
        ["plan"] = new JsonObject
        {
            ["sessions"] = plan.Sessions,
            ["sendsPerSecond"] = plan.SendsPerSecond,
            ["fanOut"] = plan.FanOut,
            ["seconds"] = plan.For.TotalSeconds,
            ["transport"] = plan.Transport.ToString().ToLowerInvariant(),
        },
        ["sent"] = count.Sent,
        ["refused"] = new JsonObject([.. count.Refused.OrderBy(r => r.Key).Select(r => KeyValuePair.Create<string, JsonNode?>(r.Key,
            r.Value))]),
        ["deliveries"] = judged.Expected,
        ["missing"] = judged.Missing,
        ["twice"] = judged.Twice,
        ["answerMs"] = Times(count.Answer),
        ["deliveryMs"] = Times(count.Delivery),
        ["connectMs"] = count.Connect.GetValueAtPercentile(50),
        ["right"] = IsRight,
    };

    public void Print(IAnsiConsole console)
    {
        var table = new Table().Border(TableBorder.None).AddColumns("", "[bold]p50[/]", "[bold]p95[/]", "[bold]p99[/]", "[bold]longest[/]");
        foreach (var column in table.Columns.Skip(1)) column.Alignment = Justify.Right;
        foreach (var (name, h) in Rows())
        {
            table.AddRow(name, Shown(Ms(h, 50)), Shown(Ms(h, 95)), Shown(Ms(h, 99)), Shown(Longest(h)));
        }
        console.MarkupLine(Markup.Escape(Done()));
        console.Write(table);
        foreach (var (kind, n) in count.Refused.OrderByDescending(r => r.Value)) console.MarkupLine($"[darkorange3]refused[/] {n} " +
            $"sends: {Output.Plain(kind)}");
        console.MarkupLine($"[{(IsRight ? "green" : "red")}]{Markup.Escape(Verdict)}[/]");
    }

    IEnumerable<(string Name, LongConcurrentHistogram Times)> Rows() => [("send to answer", count.Answer), ("send to device",
        count.Delivery)];

    string Done() => string.Create(C, $"{count.Sent} sends in {plan.For.TotalSeconds:0} s, {judged.Expected} deliveries to " +
        $"{plan.Sessions} sessions ({TransportName()}).");

    string TransportName() => plan.Transport == Client.LiveTransport.Sse ? "SSE" : plan.Transport == Client.LiveTransport.LongPoll
        ? "long poll" : "WebSocket";

    static string Shown(double? ms) => ms is { } value ? string.Create(C, $"{value:0.0} ms") : "–";

    /// <summary>A page that needs nothing else: the numbers and two pictures.</summary>
    public string Page()
    {
        var rows = string.Concat(Rows().Select(r => $"<tr><th>{r.Name}</th><td>{Shown(Ms(r.Times, 50))}</td>" +
            $"<td>{Shown(Ms(r.Times, 95))}</td><td>{Shown(Ms(r.Times, 99))}</td><td>{Shown(Longest(r.Times))}</td></tr>"));
        var refusals = string.Concat(count.Refused.OrderByDescending(r => r.Value)
            .Select(r => $"<li>{r.Value} sends were refused: {WebUtility.HtmlEncode(r.Key)}</li>"));
        var (where, when) = (WebUtility.HtmlEncode(at.ToString()), time.UtcDateTime.ToString("yyyy-MM-dd HH:mm", C));
        return $$"""
            <!doctype html>
            <html lang="en"><meta charset="utf-8"><meta name="viewport" content="width=device-width"><title>Load test of {{where}}</title>
            <style>
            body { font: 15px/1.5 system-ui, sans-serif; max-width: 60rem; margin: 2rem auto; padding: 0 1rem; color: #1c2430 }
            h1 { font-size: 1.4rem; margin: 0 }
            .verdict { font-weight: 600; color: {{(IsRight ? "#1d6b45" : "#a3261f")}} }
            table { border-collapse: collapse; margin: 1rem 0 }
            th { text-align: left; font-weight: 500; padding-right: 2rem }
            td, thead th { text-align: right; padding: .15rem .8rem; font-variant-numeric: tabular-nums }
            svg { width: 100%; height: auto }
            figure { margin: 1.5rem 0 }
            figcaption { font-weight: 600 }
            p.small { color: #5a6472 }
            </style>
            <h1>Load test of {{where}}</h1>
            <p class="small">{{when}} UTC. {{WebUtility.HtmlEncode(Done())}} {{plan.SendsPerSecond}} sends a second,
            {{plan.FanOut}} sessions reached by each. The test ran on {{WebUtility.HtmlEncode(Environment.MachineName)}} with
            {{Environment.ProcessorCount}} processors.</p>
            <p class="verdict">{{Verdict}}</p><ul>{{refusals}}</ul>
            <table><thead><tr><th></th><th>p50</th><th>p95</th><th>p99</th><th>longest</th></tr></thead><tbody>{{rows}}</tbody></table>
            <figure><figcaption>Sends and deliveries a second</figcaption>{{Rates()}}</figure>
            <figure><figcaption>From send to device, each second, in milliseconds</figcaption>{{Delays()}}</figure></html>
            """;
    }

    static double? Longest(LongConcurrentHistogram h) => h.TotalCount == 0 ? null : h.GetMaxValue() / 1000.0;

    int Last => Math.Max(1, Math.Min((int)plan.For.TotalSeconds, count.Seconds.Count));

    string Rates() => Svg([("sends", s => s.Sent, OxyColor.FromRgb(0x2f, 0x6f, 0xb0)), ("deliveries", s => s.Received,
        OxyColor.FromRgb(0x1d, 0x6b, 0x45))]);

    string Delays() => Svg([("half are faster", s => Ms(s.Delivery, 50), OxyColor.FromRgb(0x1d, 0x6b, 0x45)),
        ("99 of 100 are faster", s => Ms(s.Delivery, 99), OxyColor.FromRgb(0xb0, 0x5a, 0x1f))]);

    string Svg((string Name, Func<LoadSecond, double?> Of, OxyColor Colour)[] lines)
    {
        var model = new PlotModel { PlotAreaBorderThickness = new OxyThickness(0, 0, 0, 1), DefaultFont = "sans-serif" };
        model.Axes.Add(new LinearAxis
        {
            Position = AxisPosition.Bottom,
            Minimum = 0,
            Maximum = Math.Max(1, Last - 1),
            MinimumMajorStep = 1,
            MinorTickSize = 0
        });
        model.Axes.Add(new LinearAxis
        {
            Position = AxisPosition.Left,
            Minimum = 0,
            MinorTickSize = 0,
            MajorTickSize = 0,
            MajorGridlineStyle = LineStyle.Solid,
            MajorGridlineColor = OxyColors.LightGray,
            MaximumPadding = .1
        });
        foreach (var (name, of, colour) in lines)
        {
            var line = new LineSeries
            {
                Title = name,
                Color = colour,
                StrokeThickness = 2,
                MarkerType = Last < 40 ? MarkerType.Circle
                : MarkerType.None,
                MarkerSize = 2.5,
                MarkerFill = colour
            };
            for (int i = 0; i < Last; i++)
            {
                if (of(count.Seconds[i]) is { } value) line.Points.Add(new DataPoint(i, value));
            }
            model.Series.Add(line);
        }
        var names = lines.Select(l => $"<span style=\"color:#{l.Colour.R:x2}{l.Colour.G:x2}{l.Colour.B:x2}\">● {l.Name}</span>");
        return $"<p class=\"small\">{string.Join(" &nbsp; ", names)} &nbsp; over seconds</p>" +
            new SvgExporter { Width = 900, Height = 220, IsDocument = false }.ExportToString(model);
    }
}
