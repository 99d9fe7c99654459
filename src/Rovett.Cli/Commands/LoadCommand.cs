using System.CommandLine;
using Rovett.Cli.Load;
using Rovett.Client;
using Rovett.Service.Limits;
using Spectre.Console;

namespace Rovett.Cli.Commands;

/// <summary><c>rovett load</c></summary>
static class LoadCommand
{
    const int OwnFiles = 200;

    public static Command Build()
    {
        var connection = new Connection();
        var sessions = new Option<int>("--sessions")
        { Description = $"Live sessions, up to {LoadPlan.MostSessions}.", DefaultValueFactory = _ => 200 };
        var sends = new Option<int>("--sends")
        { Description = $"Notifications sent a second, up to {LoadPlan.MostSendsPerSecond}.", DefaultValueFactory = _ => 50 };
        var fanOut = new Option<int>("--fan-out")
        { Description = "Sessions that each notification reaches.", DefaultValueFactory = _ => 10 };
        var time = new Option<string>("--for") { Description = "For how long, up to 10m.", DefaultValueFactory = _ => "20s" };
        var transport = new Option<string>("--transport")
        { Description = "Transport: websocket, sse or long-poll.", DefaultValueFactory = _ => "websocket" };
        transport.AcceptOnlyFromAmong("websocket", "sse", "long-poll");
        var report = new Option<string?>("--report") { Description = "Write a page with numbers and pictures to this file." };
        var owner = new Option<bool>("--i-own-this-service")
        { Description = "Confirm that a service which is not on this machine may be put under load." };
        var command = new Command("load", """
            Put your own installation under a bounded load, and see whether everything arrives and how fast. It needs an admin key of the
            space main: the test makes a space of its own and removes it at the end, with everything in it. Others who use the service
            notice the load. The sessions are connected from here, so that this machine's processors count too.

            Example:
              rovett load --sessions 500 --sends 100 --fan-out 20 --for 30s --report load.html
            """) { sessions, sends, fanOut, time, transport, report, owner };
        Connection.Add(command, connection.Url, connection.Key, connection.Json);
        command.SetAction((parsed, cancel) => Output.Guard(async () =>
        {
            var at = connection.At(parsed);
            if (!at.IsLoopback && !parsed.GetValue(owner))
            {
                throw new UsageException($"--url: {at.Host} is not this machine.",
                    "If the service is yours and may be put under load, say so with --i-own-this-service.");
            }
            var plan = new LoadPlan(
                Between(parsed.GetValue(sessions), "--sessions", LoadPlan.MostSessions),
                Between(parsed.GetValue(sends), "--sends", LoadPlan.MostSendsPerSecond),
                Between(parsed.GetValue(fanOut), "--fan-out", parsed.GetValue(sessions)),
                Time(parsed.GetValue(time)!), parsed.GetValue(transport) switch
                {
                    "sse" => LiveTransport.Sse,
                    "long-poll" => LiveTransport.LongPoll,
                    _ => LiveTransport.WebSocket,
                });
            if (OpenFiles.Most() is { } files && plan.Sessions + OwnFiles > files)
            {
                throw new UsageException($"--sessions: this shell may have {files} files open, and {plan.Sessions} sessions need more.",
                    $"ulimit -n {plan.Sessions + (OwnFiles * 2)}");
            }
            if (parsed.GetValue(report) is { } page && Path.GetDirectoryName(Path.GetFullPath(page)) is { } folder
                && !Directory.Exists(folder))
            {
                throw new UsageException($"--report: the folder {folder} is not there.", "Name a file in a folder that exists.");
            }
            using var main = connection.Backend(parsed);
            bool json = parsed.GetValue(connection.Json);
            LoadCount count;
            LoadTest? test = null;
            try
            {
                count = json ? await (test = new LoadTest(at, main, plan, (_, _) => { })).Run(cancel)
                    : await Shown(tell => test = new LoadTest(at, main, plan, tell), cancel);
            }
            catch (LoadException error)
            {
                Output.Error(error.Message);
                return 1;
            }
            finally
            {
                if (test?.Left is { } left) Output.Hint($"The space {left} could not be removed: rovett space remove {left} --yes");
            }
            var result = new LoadReport(at, plan, count, DateTimeOffset.UtcNow);
            if (json) Output.Json(result.Json());
            else result.Print(AnsiConsole.Console);
            if (parsed.GetValue(report) is { } file)
            {
                await File.WriteAllTextAsync(file, result.Page(), cancel);
                Output.Hint($"The report is in {file}.");
            }
            return result.IsRight ? 0 : 1;
        }));
        return command;
    }

    static async Task<LoadCount> Shown(Func<Action<string, double>, LoadTest> make, CancellationToken cancel)
    {
        LoadCount? count = null;
        await AnsiConsole.Progress().Columns(new TaskDescriptionColumn(), new ProgressBarColumn(),
            new PercentageColumn()).StartAsync(async progress =>
        {
            var task = progress.AddTask("load test", maxValue: 1);
            count = await make((what, part) =>
            {
                if (task.Description != what) task.Description = what;
                task.Value = part;
            }).Run(cancel);
        });
        return count!;
    }

    static int Between(int value, string option, int most) => value >= 1 && value <= most ? value
        : throw new UsageException($"{option}: {value} is not from 1 to {most}.", "Give a number in that range.");

    static TimeSpan Time(string text) => Durations.TryParse(text, out var time) && time >= TimeSpan.FromSeconds(1)
        && time <= LoadPlan.Longest ? time
        : throw new UsageException($"--for: '{text}' is not a time up to 10m.", "Write it as 30s or 2m.");
}
