using System.Globalization;
using System.Text;
using System.Text.Encodings.Web;
using MimeKit;

namespace Rovett.Cli.Demo;

/// <summary>A page with the e-mails that were caught, newest first.</summary>
static class MailPage
{
    const string Head = """
        <!doctype html><html lang="en"><head><meta charset="utf-8"><meta name="viewport" content="width=device-width, initial-scale=1">
        <title>Caught mail · Marrow Sound Ferries</title><style>
        :root { color-scheme: light dark; --ground: light-dark(#f6f7f5, #15191a); --plank: light-dark(#fff, #1d2324);
          --ink: light-dark(#1c2426, #e4e9e8); --soft: light-dark(#56636a, #9fadb0); --line: light-dark(#d9dfdc, #303a3c); }
        body { margin: 0 auto; max-width: 46rem; padding: 1.5rem 1rem; background: var(--ground); color: var(--ink);
          font: 16px/1.5 system-ui, sans-serif; }
        h1 { font-size: 1.25rem; margin: 0 0 .25rem; } p { margin: .5rem 0; overflow-wrap: anywhere; white-space: pre-wrap; }
        .soft { color: var(--soft); font-size: .9rem; } article { background: var(--plank); border: 1px solid var(--line);
          border-radius: 6px; padding: .75rem 1rem; margin-top: 1rem; } h2 { font-size: 1.05rem; margin: 0; }
        </style></head><body><main><h1>Caught mail</h1>
        <p class="soft">E-mails that the demo sent. They were kept here and went nowhere.</p>
        """;

    public static string Of(IReadOnlyList<MimeMessage> caught)
    {
        var page = new StringBuilder(Head);
        if (caught.Count == 0) page.Append("<p>Nothing yet. A missed signature is mailed to the duty manager.</p>");
        foreach (var message in caught.Reverse())
        {
            var time = message.Date.ToString("HH:mm:ss 'UTC'", CultureInfo.InvariantCulture);
            page.Append(CultureInfo.InvariantCulture,
                $"<article><h2>{Escaped(message.Subject)}</h2><p class=\"soft\">{time}, to {Escaped(message.To.ToString())}, ")
                .Append(CultureInfo.InvariantCulture, $"from {Escaped(message.From.ToString())}</p>");
            foreach (var paragraph in (message.TextBody ?? "").Trim().Split("\n\n"))
            {
                page.Append("<p>").Append(Escaped(paragraph)).Append("</p>");
            }
            page.Append("</article>");
        }
        return page.Append("</main></body></html>").ToString();
    }

    static string Escaped(string? text) => HtmlEncoder.Default.Encode(text ?? "");
}
