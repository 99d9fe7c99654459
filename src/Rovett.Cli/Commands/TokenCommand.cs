using System.CommandLine;
using System.Text.Json.Nodes;

namespace Rovett.Cli.Commands;

/// <summary><c>rovett token</c></summary>
static class TokenCommand
{
    public static Command Build()
    {
        var connection = new Connection();
        var lifetime = new Option<string>("--lifetime")
        { Description = "Lifetime: 15m, 12h, 7d …", DefaultValueFactory = _ => "1h" };
        var command = new Command("token", """
            Create a user token, as your backend would: HS256 with the token-signing secret. Works offline.

            Example:
              rovett token --user mara --role engineer --lifetime 12h
            """) { lifetime };
        Connection.Add(command, connection.User, connection.Role, connection.Secret, connection.Json);
        command.SetAction((parsed, _) => Output.Guard(() =>
        {
            var user = parsed.GetValue(connection.User);
            if (string.IsNullOrEmpty(user)) throw new UsageException("User missing.", "Give --user <id>.");
            if (!Durations.TryParse(parsed.GetValue(lifetime), out var span) || span <= TimeSpan.Zero)
            {
                throw new UsageException($"--lifetime: '{parsed.GetValue(lifetime)}' is not a duration.",
                    "Give a number with s, m, h or d, such as 12h.");
            }
            var token = Connection.MakeToken(connection.SecretOf(parsed), user, connection.Roles(parsed), span);
            if (parsed.GetValue(connection.Json))
            {
                Output.Json(
                    new JsonObject
                    {
                        ["token"] = token,
                        ["user"] = user,
                        ["expires"] = DateTimeOffset.UtcNow.Add(span).ToString("yyyy-MM-dd'T'HH:mm:ss'Z'")
                    });
            }
            else Console.Out.WriteLine(token);
            return Task.FromResult(0);
        }));
        return command;
    }
}
