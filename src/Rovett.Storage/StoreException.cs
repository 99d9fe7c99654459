namespace Rovett.Storage;

/// <summary>The store can't be used.</summary>
public sealed class StoreException(string message, Exception? inner = null) : Exception(message, inner);
