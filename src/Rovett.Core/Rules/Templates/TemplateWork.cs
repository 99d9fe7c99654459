using Fluid;

namespace Rovett.Core.Rules.Templates;

/// <summary>Bounds the work of all templates of one draft, whatever they loop over: the same event costs the same everywhere.</summary>
sealed class TemplateWork
{
    /// <summary>The longest result of a template, in characters.</summary>
    public const int MaxOutput = 16 * 1024;

    const string Key = "work";
    const int MaxUnits = 200_000, CharactersPerUnit = 16;

    int units;

    /// <summary>Lets filters find it.</summary>
    public void AddTo(TemplateContext context) => context.AmbientValues[Key] = this;

    /// <summary>That of a context.</summary>
    public static TemplateWork Of(TemplateContext context) => (TemplateWork)context.AmbientValues[Key];

    /// <summary>Charges a step, and characters that it handles.</summary>
    public void Charge(int characters = 0)
    {
        units += 1 + characters / CharactersPerUnit;
        if (units > MaxUnits) throw new TemplateFault("the template takes too many steps; loop over less");
    }

    /// <summary>Refuses a text that is too long to be a result.</summary>
    public static void Fits(long characters)
    {
        if (characters > MaxOutput) throw new TemplateFault($"the text is longer than {MaxOutput} characters");
    }
}
