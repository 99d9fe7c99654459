namespace Rovett.Service.Cluster;

/// <summary>Where a space is served.</summary>
/// <param name="Owner">The incarnation of the node; null: nowhere just now.</param>
/// <param name="Url">Where that node is reached; null: nobody, or one that is not heard of.</param>
/// <param name="Term">Under which term.</param>
sealed record Place(Guid? Owner, string? Url, long Term)
{
    readonly CancellationTokenSource over = new();

    static readonly TimeSpan LastWords = TimeSpan.FromSeconds(2);

    /// <summary>Cancelled when the space is served elsewhere from now on.</summary>
    public CancellationToken Over => over.Token;

    /// <summary>It is served elsewhere from now on.</summary>
    /// <param name="isAlive">The node that served it is there still: it may end what it has under way by itself.</param>
    public void End(bool isAlive)
    {
        if (isAlive) over.CancelAfter(LastWords);
        else over.Cancel();
    }
}
