namespace Rovett.Cli.Doctor;

/// <summary>How bad something is.</summary>
enum Verdict
{
    /// <summary>It is as it should be.</summary>
    Fine,
    /// <summary>It could not be examined, because something it needs was not given or is at fault itself.</summary>
    Skipped,
    /// <summary>It works, and will not for ever, or not well.</summary>
    Warning,
    /// <summary>Users notice.</summary>
    Fault,
}

/// <summary>What was found of one thing.</summary>
/// <param name="Check">Its name, which is also its place on the page docs/doctor.md.</param>
/// <param name="Verdict">How it is.</param>
/// <param name="What">What was found.</param>
/// <param name="Fix">What to do; null: nothing.</param>
sealed record Finding(string Check, Verdict Verdict, string What, string? Fix = null)
{
    public static Finding Fine(string check, string what) => new(check, Verdict.Fine, what);
    public static Finding Skipped(string check, string why) => new(check, Verdict.Skipped, why);
    public static Finding Warning(string check, string what, string fix) => new(check, Verdict.Warning, what, fix);
    public static Finding Fault(string check, string what, string fix) => new(check, Verdict.Fault, what, fix);
}
