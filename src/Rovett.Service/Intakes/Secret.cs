namespace Rovett.Service.Intakes;

/// <summary>A secret that is read where it is kept, each time it is needed, so that it can be changed there.</summary>
/// <param name="place">The file, or the variable of the environment.</param>
/// <param name="isFile">Whether it is in a file.</param>
public sealed class Secret(string place, bool isFile)
{
    /// <summary>Reads it; white space at its end is not part of it.</summary>
    /// <exception cref="IntakeFailure">It is not there.</exception>
    public string Read()
    {
        try
        {
            var found = isFile ? File.ReadAllText(place) : Environment.GetEnvironmentVariable(place);
            return found?.TrimEnd() ?? throw new IntakeFailure($"the variable {place} is not set; the secret is expected there");
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException)
        {
            throw new IntakeFailure($"the secret can't be read from {place}: {error.Message}", error);
        }
    }

    /// <summary>Where it is kept.</summary>
    public override string ToString() => isFile ? $"file {place}" : $"variable {place}";
}
