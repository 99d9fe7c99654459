namespace Rovett.Service.Cluster;

/// <summary>Where a space is served.</summary>
/// <param name="Owner">The incarnation of the node; null: nowhere just now.</param>
/// <param name="Url">Where that node is reached; null: nobody, or one that is not heard of.</param>
/// <param name="Term">Under which term.</param>
sealed record Place(Guid? Owner, string? Url, long Term)
{
    readonly CancellationTokenSource over = new();

    /// <summary>Cancelled when the space is served elsewhere from now on.</summary>
    public CancellationToken Over => over.Token;

    /// <summary>It is served elsewhere.</summary>
    public void End() => over.Cancel(); // without a timer there is nothing to dispose
}
