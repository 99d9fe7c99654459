using System.CommandLine;
using System.CommandLine.Parsing;

namespace Rovett.Cli;

/// <summary>Says what is wrong with a command line, what it may have meant, and where it is explained.</summary>
static class WrongUsage
{
    public static void Say(ParseResult parsed)
    {
        var command = parsed.CommandResult.Command;
        var words = new List<string>();
        for (SymbolResult? at = parsed.CommandResult; at is CommandResult { Command: not RootCommand } result; at = result.Parent)
        {
            words.Insert(0, result.Command.Name);
        }
        var called = string.Join(' ', (IEnumerable<string>)[Output.Program, .. words]);

        var unknown = parsed.UnmatchedTokens;
        var errors = parsed.Errors.Select(e => e.Message).ToList();
        // That no command was given is not what is wrong where one was given that does not exist.
        if (unknown.Count > 0 && errors.Count > 1)
        {
            errors = [.. errors.Where(e => unknown.Any(u => e.Contains($"'{u}'", StringComparison.Ordinal)))];
        }
        var near = unknown.SelectMany(word => NearNames.Among(
            word.StartsWith('-') ? Options(parsed.CommandResult) : command.Subcommands.SelectMany(c => c.Aliases.Append(c.Name)),
            word)).Distinct().ToList();
        var fix = $"See '{called} --help'.";
        if (near.Count > 0)
        {
            fix = $"Did you mean {string.Join(" or ", near.Select(n => $"'{(n.StartsWith('-') ? n : $"{called} {n}")}'"))}? {fix}";
        }
        Output.Problem("usage", string.Join(' ', errors.Distinct()), null, fix);
    }

    static IEnumerable<string> Options(CommandResult result) =>
        result.Command.Options.Where(o => !o.Hidden).SelectMany(o => o.Aliases.Append(o.Name));
}
