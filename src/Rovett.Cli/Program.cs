using System.CommandLine;
using System.Globalization;
using Rovett.Cli;
using Rovett.Cli.Commands;
using Rovett.Cli.Conformance;

CultureInfo.DefaultThreadCurrentCulture = CultureInfo.CurrentCulture = CultureInfo.InvariantCulture;

if (Console.IsOutputRedirected) Spectre.Console.AnsiConsole.Profile.Width = 4096; // a pipe has no edge to wrap at

var root = new RootCommand($"""
    Rovett: notifications that reach every user at once and are never missed.

    Start here:
      {Output.Program} serve                                        start the service
      {Output.Program} send --to user:mara --type hello --title Hi  send the first notification
      {Output.Program} receive --user mara                          and see it arrive
    """)
{
    ServeCommand.Build(),
    DemoCommand.Build(),
    SendCommand.Build(),
    WithdrawCommand.Build(),
    ReceiptsCommand.Build(),
    ReceiveCommand.Build(),
    InboxCommand.Build(),
    MarkCommand.Build(),
    TokenCommand.Build(),
    UsersCommand.Build(),
    EventCommand.Build(),
    RulesCommand.Build(), TypesCommand.Build(),
    SetAsideCommand.Build(), IntakeCommand.Build(),
    PoliciesCommand.Build(),
    GrantCommand.Build(),
    DeciderCommand.Build(),
    WebhookCommand.Build(),
    ExplainCommand.Build(),
    ProveCommand.Build(),
    ConformanceCommand.Build(),
    FollowCommand.Build(),
    SpaceCommand.Build(), ClusterCommand.Build(),
    KeyCommand.Build(),
    SigningKeyCommand.Build(),
    SettingsCommand.Build(),
    AuditCommand.Build(),
    LimitsCommand.Build(),
    StatusCommand.Build(),
    DoctorCommand.Build(),
    ConfigCommand.Build(),
    LoadCommand.Build(),
    SizeCommand.Build(),
    ClockCommand.Build(),
    ConsoleCommand.Build(),
    StoreCommand.Build(),
};

Output.AsJson = args.TakeWhile(a => a != "--").Contains("--json");
var parsed = root.Parse(args);
if (parsed.Errors.Count > 0)
{
    WrongUsage.Say(parsed);
    return 2;
}
return await parsed.InvokeAsync(new InvocationConfiguration { ProcessTerminationTimeout = TimeSpan.FromSeconds(8) });
