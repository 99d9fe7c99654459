using Microsoft.Playwright;
using Rovett.Testing;
using Shouldly;

namespace Rovett.EndToEnd;

/// <summary>Whether a page is accessible, as far as a program can tell, and no wider than its window.</summary>
static class Axe
{
    static readonly string script = File.ReadAllText(Path.Combine(ServiceProcess.Root, "node_modules", "axe-core", "axe.min.js"));

    public static async Task FindsNothing(IPage page, string what)
    {
        await page.EvaluateAsync(script);
        var found = await page.EvaluateAsync<string[]>("""
            () => axe.run(document, { runOnly: ['wcag2a', 'wcag2aa', 'wcag21a', 'wcag21aa', 'wcag22aa', 'best-practice'] })
              .then((r) => r.violations.flatMap((v) => v.nodes.map((n) => `${v.id}: ${n.target.join(' ')} ${n.any[0]?.message ?? ''}`)))
            """);
        found.ShouldBeEmpty(what);
        (await page.EvaluateAsync<int>("document.documentElement.scrollWidth - innerWidth")).ShouldBeLessThanOrEqualTo(0, what);
    }
}
