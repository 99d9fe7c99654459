using System.CommandLine;

namespace Rovett.Cli.Commands;

/// <summary><c>rovett demo</c></summary>
static class DemoCommand
{
    public static Command Build()
    {
        var command = new Command("demo", "Show it.");
        command.SetAction((_, _) => Task.FromResult(0));
        return command;
    }
}
