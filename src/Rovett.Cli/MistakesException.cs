using Rovett.Core.Yaml;

namespace Rovett.Cli;

/// <summary>A rules file with mistakes.</summary>
sealed class MistakesException(string file, IReadOnlyList<RuleMistake> mistakes) : Exception("The rules have mistakes.")
{
    /// <summary>The file.</summary>
    public string File => file;

    /// <summary>Its mistakes.</summary>
    public IReadOnlyList<RuleMistake> Mistakes => mistakes;
}
