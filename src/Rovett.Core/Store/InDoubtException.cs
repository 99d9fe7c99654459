namespace Rovett.Core.Store;

/// <summary>The store became unreachable while it stored a batch: the batch may be stored or not.</summary>
/// <param name="error">Why it can't be found out now.</param>
public sealed class InDoubtException(Exception error)
    : IOException("The store became unreachable while it stored: " + error.Message, error);
