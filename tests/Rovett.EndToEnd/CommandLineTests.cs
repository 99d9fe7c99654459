using System.Text.Json.Nodes;
using Rovett.Testing;
using Shouldly;
using Xunit;

namespace Rovett.EndToEnd;

/// <summary>The command line as a developer uses it, against the service it started.</summary>
public sealed class CommandLineTests : CommandLineGround
{
    async Task Import(params string[] lines)
    {
        var file = Path.Combine(Folder, "crew.ndjson");
        await File.WriteAllLinesAsync(file, lines);
        (await Cli("users", "import", file)).ExitCode.ShouldBe(0);
    }

    [Fact]
    public async Task A_slip_in_a_command_or_an_option_is_named_with_what_was_meant_and_where_it_is_explained()
    {
        foreach (var (args, meant, help) in new (string[], string, string)[]
        {
            (["sned"], "'rovett send'", "'rovett --help'"),
            (["users", "lst"], "'rovett users list'", "'rovett users --help'"),
            (["key", "create", "--nmae", "desk", "--scope", "send"], "'--name'", "'rovett key create --help'"),
            (["send", "--titel", "x"], "'--title'", "'rovett send --help'"),
        })
        {
            var run = await Cli(args);
            (run.ExitCode, run.Out).ShouldBe((2, ""));
            run.Error.ShouldContain($"Did you mean {meant}");
            run.Error.ShouldContain($"See {help}");
        }
        (await Cli("key", "create")).Error.ShouldContain("See 'rovett key create --help'");
        (await Cli("users")).Error.ShouldContain("See 'rovett users --help'");
    }

    [Fact]
    public async Task With_json_what_goes_wrong_is_json_too()
    {
        foreach (var (args, type, exit) in new (string[], string, int)[]
        {
            (["send", "--to", "mara"], "invalid-fields", 2),
            (["sned"], "usage", 2),
            (["key", "create"], "usage", 2),
            (["inbox", "--user", "nobody"], "usage", 2),
            (["receipts", "01900000-0000-7000-8000-000000000000"], "unknown-notification", 1),
            (["status", "--url", "http://127.0.0.1:1"], "unreachable", 1),
        })
        {
            var run = await Cli([.. args, "--json"]);
            (run.ExitCode, run.Out).ShouldBe((exit, ""), string.Join(' ', args));
            var lines = run.Error.Trim().Split('\n');
            lines.Length.ShouldBe(1, run.Error);
            var problem = JsonNode.Parse(lines[0])!;
            ((string)problem["type"]!).ShouldBe("urn:rovett:problem:" + type);
            ((string)problem["title"]!).ShouldNotBeEmpty();
            ((string)problem["fix"]!).ShouldNotBeEmpty();
        }
        JsonNode.Parse((await Cli("send", "--to", "mara", "--json")).Error)!["errors"]!.AsArray().Select(e => (string)e!["field"]!)
            .ShouldBe(["to[0]", "type", "title"]);
    }

    [Fact]
    public async Task A_slip_in_a_name_makes_nobody()
    {
        await Import("""{"id":"mara"}""");
        foreach (var args in new string[][] { ["inbox", "--user", "marra"], ["mark", "read", "--all", "--user", "marra"],
            ["users", "block", "marra"], ["users", "unblock", "marra"], ["users", "sign-out", "marra"],
                ["prove", "--to", "user:mara", "--not", "user:marra"], ["prove", "--to", "user:marra", "--not", "user:mara"] })
        {
            var run = await Cli(args);
            run.ExitCode.ShouldBe(2, string.Join(' ', args));
            run.Error.ShouldContain("nobody is known by 'marra'");
            run.Error.ShouldContain("Did you mean mara?");
        }
        (await Json("users", "list"))["users"]!.AsArray().Select(u => (string)u!["id"]!).ShouldBe(["mara"]);
        (await Cli("users", "show", "marra")).Error.ShouldContain("Did you mean mara?");
        // Where it is meant, it is done; and some ids can't stand in a path.
        (await Cli("users", "block", "..", "--unknown")).ExitCode.ShouldBe(0);
        (await Json("users", "show", ".."))["blocked"]!.GetValue<bool>().ShouldBeTrue();
        (await Cli("users", "unblock", "..")).ExitCode.ShouldBe(0);
        (await Cli("users", "erase", "..", "--yes")).ExitCode.ShouldBe(0);
    }

    [Fact]
    public async Task Settings_are_set_as_the_manual_says_and_unknown_ones_are_refused()
    {
        (await Json("settings", "limits.sendsPerSecond=100"))["limits"]!["sendsPerSecond"]!.GetValue<int>().ShouldBe(100);
        (await Json("settings", "limits.sendsPerSecond="))["limits"]!["sendsPerSecond"].ShouldBeNull();
        (await Json("settings", "tokens.audiences=2024"))["tokens"]!["audiences"]![0]!.GetValue<string>().ShouldBe("2024");
        (await Json("settings", "strictTypes=true"))["strictTypes"]!.GetValue<bool>().ShouldBeTrue();
        (await Cli("settings", "mail.host=mail.marrowsound.example")).Error.ShouldContain("mail.from is missing");
        var mail = (await Json("settings", "mail.host=mail.marrowsound.example", "mail.from=watch@marrowsound.example",
            "mail.domains=marrowsound.example,harbour.example", "mail.port=25", "mail.password=secret"))["mail"]!;
        (mail["port"]!.GetValue<int>(), mail["domains"]!.AsArray().Count, mail["hasPassword"]!.GetValue<bool>()).ShouldBe((25, 2, true));
        (await Json("settings", "mail="))["mail"].ShouldBeNull();
        foreach (var (change, said) in new[] { ("a=", "'a' is not a setting"), ("audiences=x", "Did you mean tokens.audiences?"),
            ("tokens.audience=x", "Did you mean tokens.audiences?"), ("origins", "'origins' is not a change"),
                ("limits.sendsPerSecond=many", "limits.sendsPerSecond must be a whole number") })
        {
            var run = await Cli("settings", change);
            run.ExitCode.ShouldBe(2, change);
            run.Error.ShouldContain(said);
        }
    }

    [Fact]
    public async Task What_is_given_wrongly_is_said_where_it_is_wrong()
    {
        await Import("""{"id":"mara"}""");
        foreach (var link in new[] { "garbage", "/v1/users", "http://elsewhere/v1/inbox" })
        {
            var page = await Cli("inbox", "--user", "mara", "--next", link);
            (page.ExitCode, page.Error.Contains($"--next: '{link}' is not a link", StringComparison.Ordinal),
                page.Error.Contains("   at ", StringComparison.Ordinal)).ShouldBe((2, true, false), page.Error);
        }
        (await Cli("inbox", "--user", "mara", "--next", "/v1/inbox?page=garbage")).ExitCode.ShouldBe(2);
        var file = Path.Combine(Folder, "broken.json");
        await File.WriteAllTextAsync(file, "{\"to\":");
        var sent = await Cli("send", "--file", file);
        (sent.ExitCode, sent.Error.Contains("shell", StringComparison.Ordinal),
            sent.Error.Contains($"{file}: not JSON, at line 1", StringComparison.Ordinal)).ShouldBe((2, false, true), sent.Error);
        var token = await Cli("receive", "--token", "nonsense");
        (token.ExitCode, token.Error.Contains("The token does not have the three parts", StringComparison.Ordinal)).ShouldBe((2, true),
            token.Error);
        var made = await Cli("space", "create", "It's the harbour's");
        made.Out.ShouldContain("export ROVETT_SPACE='It'\\''s the harbour'\\''s'");
    }

    [Fact]
    public async Task The_first_five_minutes()
    {
        var sent = await Cli("send", "--to", "user:mara", "--type", "engine.check.due", "--title", "Turnstone: bow thruster check due");
        sent.ExitCode.ShouldBe(0, sent.Error);
        sent.Out.ShouldContain("Stored");
        sent.Out.ShouldContain("no such user or role yet");

        var received = await Cli("receive", "--user", "mara", "--role", "engineer", "--count", "1");
        received.ExitCode.ShouldBe(0, received.Error);
        received.Out.ShouldContain("connected over websocket as mara in main, on user:mara, role:engineer, everyone; 1 unread");
        received.Out.ShouldContain("Turnstone: bow thruster check due");

        var listening = Cli("receive", "--user", "mara", "--transport", "sse", "--count", "1");
        await Eventually.Holds(async () => (int)(await Json("status"))["sessions"]!, n => n == 1, "it is connected");
        (await Json("send", "--to", "role:engineer", "--type", "engine.check.due", "--title",
            "Kittiwake: cooling pump check due"))["reach"]![0]!["connected"]!.GetValue<int>().ShouldBe(1);
        var heard = await listening;
        heard.Out.ShouldContain("connected over sse");
        heard.Out.ShouldContain("2 unread");

        var inbox = await Json("inbox", "--user", "mara", "--state", "unread");
        inbox["items"]!.AsArray().Count.ShouldBe(2);
        var marked = await Cli("mark", "read", "--id", (string)inbox["items"]![0]!["id"]!, "--user", "mara");
        marked.Out.ShouldContain("1 unread now");
        (await Cli("mark", "read", "--all", "--user", "mara")).Out.ShouldContain("0 unread now");
        (await Cli("inbox", "--user", "mara", "--state", "unread")).Out.ShouldContain("Nothing here.");
        (await Cli("status")).Out.ShouldContain("Running since");
    }

    [Fact]
    public async Task Who_may_listen_is_loaded_granted_explained_and_proven()
    {
        var file = Path.Combine(Folder, "policies.yaml");
        await File.WriteAllTextAsync(file, """
            policies:
              - name: desk
                topic: berth/{berth}
                may: [subscribe, fly]
                when: { role: harbour-desk }
            """);
        var wrong = await Cli("policies", "check", file);
        wrong.ExitCode.ShouldBe(2);
        wrong.Error.ShouldContain("policies[0].may");
        await File.WriteAllTextAsync(file, (await File.ReadAllTextAsync(file)).Replace("fly", "follow"));
        (await Cli("policies", "check", file)).Out.ShouldContain("Valid: 1 policies");
        (await Json("policies", "show"))["version"]!.GetValue<long>().ShouldBe(0);
        long version = (long)(await Json("policies", "load", file))["version"]!;
        (await Cli("policies", "load", file, "--in-place-of", "999")).Error.ShouldContain("Another version is in effect");
        (await Cli("policies", "show")).Out.ShouldContain("berth/{berth}");
        await File.WriteAllTextAsync(file, "policies: [");
        (await Cli("policies", "load", file)).ExitCode.ShouldBe(2);
        (await Json("policies", "show"))["version"]!.GetValue<long>().ShouldBe(version);

        await Import("""{"id":"teo"}""", """{"id":"pia"}""");
        (await Cli("inbox", "--user", "teo", "--role", "deckhand")).ExitCode.ShouldBe(0);
        (await Cli("inbox", "--user", "pia", "--role", "harbour-desk")).ExitCode.ShouldBe(0);
        (await Cli("follow", "berth/3", "--user", "pia")).Out.ShouldContain("follows berth/3");
        (await Cli("follow", "berth/3", "--user", "teo")).Error.ShouldContain("Not allowed");
        (await Cli("explain", "--user", "teo", "--on", "topic:berth/3")).Out.ShouldContain("give the user the role harbour-desk");
        (await Json("explain", "--user", "pia", "--on", "topic:berth/3"))["onChannel"]!.GetValue<bool>().ShouldBeTrue();

        var proof = await Cli("prove", "--to", "user:pia", "--not", "user:teo", "--on", "topic:berth/3");
        (proof.ExitCode, proof.Out.Contains("Proven.")).ShouldBe((0, true), proof.Out + proof.Error);
        (await Json("prove", "--to", "user:pia", "--not", "user:teo", "--stored"))["proven"]!.GetValue<bool>().ShouldBeTrue();
        (await Json("inbox", "--user", "pia"))["items"]!.AsArray().ShouldBeEmpty(); // the test was withdrawn
        (await Cli("prove", "--to", "pia", "--not", "user:teo")).ExitCode.ShouldBe(2);
        var grant = (long)(await Json("grant", "create", "--user", "teo", "--topic", "berth/3", "--may", "subscribe", "--for",
            "1h"))["grant"]!;
        (await Cli("grant", "list", "--user", "teo")).Out.ShouldContain("berth/3");
        var disproof = await Cli("prove", "--to", "user:pia", "--not", "user:teo", "--on", "topic:berth/3");
        (disproof.ExitCode, disproof.Out.Contains("Not proven.")).ShouldBe((1, true), disproof.Out);
        // What failed is said as it was, and not as it should have been.
        disproof.Out.ShouldContain("✗  teo may subscribe to topic:berth/3");
        disproof.Out.ShouldContain("✗  teo got the test too");
        disproof.Out.ShouldContain("rovett explain --user teo --on topic:berth/3");
        (await Cli("grant", "remove", grant.ToString())).Out.ShouldContain("Removed.");

        (await Cli("decider", "create", "rota", "--at", "https://10.0.0.1/decide")).ExitCode.ShouldBe(2);
        (await Cli("decider", "list")).Out.ShouldContain("No deciders.");
        (await Cli("audit")).Out.ShouldContain("topic.refused");
    }

    [Fact]
    public async Task Every_kind_of_thing_is_created_listed_shown_changed_and_removed()
    {
        Service.Dispose();
        Service = await ServiceProcess.Start(Folder,
            environment: new Dictionary<string, string> { ["ROVETT_WEBHOOK_NETWORKS"] = "127.0.0.0/8" });
        Environment["ROVETT_URL"] = Service.Url.ToString();

        (await Cli("users", "create", "mara", "--name", "Mara", "--role", "engineer")).Out.ShouldContain("Created mara: engineer");
        (await Cli("users", "create", "mara")).Error.ShouldContain("exists already");
        (await Cli("users", "update", "mara", "--role", "deck")).Out.ShouldContain("Updated mara: deck");
        (await Json("users", "show", "mara"))["displayName"]!.GetValue<string>().ShouldBe("Mara");
        var nobody = await Cli("users", "update", "nobody", "--role", "deck");
        (nobody.ExitCode, nobody.Error.Contains("There is no user 'nobody'.")).ShouldBe((2, true), nobody.Error);
        (await Cli("users", "remove", "mara", "--yes")).Out.ShouldContain("Erased.");

        foreach (var kind in new[] { "webhook", "decider" })
        {
            (await Cli(kind, "create", "backend", "--at", "http://127.0.0.1:9/a")).Out.ShouldContain("shown only once");
            var again = await Cli(kind, "create", "backend", "--at", "http://127.0.0.1:9/a");
            (again.ExitCode, again.Error.Contains($"rovett {kind} update")).ShouldBe((2, true), again.Error);
            (await Cli(kind, "update", "backend", "--at", "http://127.0.0.1:9/b")).Out.ShouldNotContain("shown only once");
            (await Json(kind, "show", "backend"))["url"]!.GetValue<string>().ShouldEndWith("/b");
            (await Cli(kind, "list")).Out.ShouldContain("http://127.0.0.1:9/b");
            (await Cli(kind, "remove", "backend")).Out.ShouldContain("Removed.");
            (await Cli(kind, "show", "backend")).ExitCode.ShouldBe(1);
        }
        await Cli("webhook", "create", "desk", "--at", "http://127.0.0.1:9/a", "--state", "read", "--type", "engine.*");
        await Cli("webhook", "update", "desk", "--state", "taken");
        var webhook = await Json("webhook", "show", "desk");
        (webhook["states"]!.ToJsonString(), webhook["types"]!.ToJsonString()).ShouldBe(("""["taken"]""", """["engine.*"]"""));

        var grant = (await Json("grant", "create", "--role", "deck", "--topic", "berth/3", "--may", "follow"))["grant"]!.ToString();
        (await Cli("grant", "show", grant)).Out.ShouldContain("berth/3");
        (await Cli("grant", "remove", grant)).Out.ShouldContain("Removed.");
        var key = (string)(await Json("key", "create", "--name", "desk", "--scope", "read"))["id"]!;
        (await Json("key", "show", key))["name"]!.GetValue<string>().ShouldBe("desk");
        var signing = (string)(await Json("signing-key", "list"))["signingKeys"]![0]!["name"]!;
        (await Json("signing-key", "show", signing))["kind"]!.GetValue<string>().ShouldBe("secret");
        (await Json("space", "show", "main"))["path"]!.GetValue<string>().ShouldBe("/v1");
    }

    [Fact]
    public async Task A_space_is_made_used_and_removed()
    {
        var made = await Json("space", "create", "harbour");
        var own = new Dictionary<string, string>(Environment)
        {
            ["ROVETT_SPACE"] = "harbour",
            ["ROVETT_KEY"] = (string)made["credentials"]!["adminKey"]!,
            ["ROVETT_TOKEN_SECRET"] = (string)made["credentials"]!["tokenSigningSecret"]!
        };
        (await ServiceProcess.Cli(["send", "--to", "user:mara", "--type", "t", "--title", "In the harbour"], own)).ExitCode.ShouldBe(0);
        (await ServiceProcess.Cli(["inbox", "--user", "mara"], own)).Out.ShouldContain("In the harbour");
        (await Cli("inbox", "--user", "mara")).Out.ShouldNotContain("In the harbour");
        (await Cli("space", "list")).Out.ShouldContain("/s/harbour/v1");
        (await Cli("space", "remove", "harbour")).ExitCode.ShouldBe(2);
        (await Cli("space", "remove", "harbour", "--yes")).Out.ShouldContain("Removed");
        (await ServiceProcess.Cli(["inbox", "--user", "mara"], own)).Error.ShouldContain("No such space");
    }

    [Fact]
    public async Task Keys_and_tokens_are_made_listed_and_ended()
    {
        var made = await Json("key", "create", "--name", "booking backend", "--scope", "send");
        (await Cli("key", "list")).Out.ShouldContain("booking backend");
        (await Cli("key", "remove", (string)made["id"]!)).ExitCode.ShouldBe(0);
        var refused = await ServiceProcess.Cli(["send", "--to", "everyone", "--type", "t", "--title", "t"],
            new Dictionary<string, string>(Environment) { ["ROVETT_KEY"] = (string)made["key"]! });
        refused.ExitCode.ShouldBe(1);
        refused.Error.ShouldContain("revoked");
        var token = (await Cli("token", "--user", "mara", "--role", "engineer", "--lifetime", "5m")).Out.Trim();
        (await Json("inbox", "--token", token))["totals"]!["unread"]!.GetValue<int>().ShouldBe(0);
    }

    [Fact]
    public async Task A_whole_notification_comes_from_standard_input()
    {
        var run = await ServiceProcess.Cli(["send", "--file", "-", "--json"], Environment,
            """{"to":["user:ivo"],"type":"crew.swap.asked","title":"Swap?","data":{"swap":18}}""");
        run.ExitCode.ShouldBe(0, run.Error);
        ((bool)JsonNode.Parse(run.Out)!["repeated"]!).ShouldBeFalse();
        (await Json("send", "--to", "user:ivo", "--type", "t", "--title", "t", "--dry-run"))["dryRun"]!.GetValue<bool>().ShouldBeTrue();
    }

    public static readonly TheoryData<string[], string> Wrong = new()
    {
        { ["send", "--to", "mara", "--type", "t", "--title", "t"], "to[0]" },
        { ["send", "--to", "user:mara"], "title" },
        { ["send", "--to", "user:mara", "--type", "t", "--title", "t", "--link", "javascript:alert(1)"], "link" },
        { ["send", "--to", "user:mara", "--type", "t", "--title", "t", "--data", "{"], "--data" },
        { ["send", "--file", "/nowhere.json"], "--file" },
        { ["receive"], "--user" },
        { ["receive", "--user", "mara", "--transport", "pigeon"], "pigeon" },
        { ["receive", "--user", "mara", "--after", "xyz"], "after" },
        { ["mark", "read", "--user", "mara"], "--all" },
        { ["mark", "seen", "--all", "--user", "mara"], "seen" },
        { ["inbox", "--user", "mara", "--limit", "0"], "limit" },
        { ["token"], "--user" },
        { ["token", "--user", "mara", "--lifetime", "soon"], "--lifetime" },
        { ["key", "create", "--name", "x", "--scope", "everything"], "everything" },
        { ["nonsense"], "nonsense" },
        { ["serve", "--port", "99999", "--newcomers", "soon", "--origins", "*"], "--newcomers" },
    };

    [Theory, MemberData(nameof(Wrong))]
    public async Task Bad_input_names_what_is_wrong_and_exits_with_2(string[] args, string names)
    {
        var run = await Cli(args);
        run.ExitCode.ShouldBe(2, run.Out + run.Error);
        (run.Error + run.Out).ShouldContain(names);
    }

    [Fact]
    public async Task What_stands_in_the_way_is_said_with_its_mend_and_exits_with_1()
    {
        var nowhere = await Cli("status", "--url", "http://127.0.0.1:9");
        (nowhere.ExitCode, nowhere.Error.Contains("rovett serve")).ShouldBe((1, true));
        await Import("""{"id":"mara"}""");
        var wrong = await Cli("inbox", "--user", "mara", "--secret", "not the secret, but as long as one must be");
        (wrong.ExitCode, wrong.Error.Contains("signature")).ShouldBe((1, true));
        var stranger = await Cli("receive", "--user", "mara", "--secret", "not the secret, but as long as one must be");
        (stranger.ExitCode, stranger.Error.Contains("signature")).ShouldBe((1, true));
    }

    [Fact]
    public async Task Every_command_has_an_example()
    {
        string[][] commands = [["serve"], ["demo"], ["send"], ["receive"], ["inbox"], ["mark"], ["token"], ["key"], ["key", "create"],
            ["key", "list"], ["key", "remove"], ["status"]];
        foreach (var command in commands)
        {
            var help = await Cli([.. command, "--help"]);
            help.ExitCode.ShouldBe(0);
            help.Out.ShouldContain($"Example:\n    rovett {string.Join(' ', command)}", Case.Sensitive, string.Join(' ', command));
        }
    }

    [Fact]
    public async Task A_notification_is_withdrawn_and_one_that_expires_or_is_not_stored_is_sent()
    {
        var sent = await Json("send", "--to", "role:engineer", "--type", "engine.check.due", "--title", "A false alarm", "--ttl", "3600",
            "--slot", "alarm", "--takeable");
        var id = (string)sent["id"]!;
        var withdrawn = await Cli("withdraw", id);
        (withdrawn.ExitCode, withdrawn.Out.Contains("Withdrawn", StringComparison.Ordinal)).ShouldBe((0, true), withdrawn.Error);
        (await Cli("withdraw", id)).Out.ShouldContain("No change: already withdrawn");
        var unknown = await Cli("withdraw", "nothing");
        (unknown.ExitCode, unknown.Error.Contains("No such notification", StringComparison.Ordinal)).ShouldBe((1, true));
        (await Cli("send", "--to", "everyone", "--type", "job.progress", "--title", "40 %", "--ephemeral")).Out.ShouldContain("not stored");
        var wrong = await Cli("send", "--to", "user:mara", "--type", "t", "--title", "t", "--ttl", "0");
        (wrong.ExitCode, wrong.Error.Contains("ttl", StringComparison.Ordinal)).ShouldBe((2, true));
    }

    [Fact]
    public async Task The_directory_is_imported_and_shown_and_a_person_is_erased()
    {
        var file = Path.Combine(Folder, "crew.ndjson");
        await File.WriteAllLinesAsync(file,
            [.. Enumerable.Range(1, 5001)
            .Select(i => $$"""{"id":"deckhand{{i:D4}}","displayName":"Deckhand {{i}}","roles":["deckhand"]}"""),
            """{"id":"nils","rolls":[]}"""]);
        var import = await Cli("users", "import", file);
        import.ExitCode.ShouldBe(2);
        import.Out.ShouldContain("5,001 users stored, 1 line refused");
        import.Error.ShouldContain("5,000 lines, 5,000 stored");
        import.Error.ShouldContain("line 5002: rolls");
        (await Json("users", "list", "--after", "deckhand4999"))["users"]!.AsArray().Select(u => (string)u!["id"]!)
            .ShouldBe(["deckhand5000", "deckhand5001"]);
        (await Cli("users", "list")).Out.ShouldContain("Deckhand 7");
        (await Json("send", "--to", "role:deckhand", "--type", "t", "--title",
            "Lines fore and aft"))["reach"]![0]!["users"]!.GetValue<int>()
            .ShouldBe(5001);
        (await Cli("users", "show", "deckhand0007")).Out.ShouldMatch("unread +1");
        (await Cli("users", "erase", "deckhand0007")).ExitCode.ShouldBe(2);
        (await Cli("users", "erase", "deckhand0007", "--yes")).Out.ShouldContain("Erased");
        (await Cli("users", "show", "deckhand0007")).ExitCode.ShouldBe(1);
    }

    [Fact]
    public async Task What_became_of_a_notification_is_shown()
    {
        var id = (string)(await Json("send", "--to", "user:mara", "--type", "engine.check.due", "--title",
            "Turnstone: bow thruster check due", "--ttl", "2h"))["id"]!;
        (await Cli("receive", "--user", "mara", "--count", "1")).ExitCode.ShouldBe(0);
        await Eventually.Holds(async () => (await Cli("receipts", id)).Out, text => text.Contains("1 received, 1 handled, 0 read"),
            "its receipt is stored");
        (await Cli("withdraw", id)).ExitCode.ShouldBe(0);
        (await Cli("receipts", id)).Out.ShouldContain("withdrawn");
        var all = await Cli("receipts");
        all.Out.ShouldContain("withdrawn");
        all.Error.ShouldContain("Continue later with --after");
        (await Cli("send", "--to", "user:mara", "--type", "t", "--title", "x", "--ttl", "tomorrow")).ExitCode.ShouldBe(2);
    }
}
