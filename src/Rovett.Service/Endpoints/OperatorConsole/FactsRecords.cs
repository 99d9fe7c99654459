using Rovett.Service.Endpoints.Backend;
using Rovett.Service.Http;

namespace Rovett.Service.Endpoints.OperatorConsole;

/// <summary>What the console's navigation tells of a space on every page.</summary>
public sealed record FactsAnswer
{
    /// <summary>The node that serves the space; absent: the service has its store to itself.</summary>
    public string? Node { get; init; }

    /// <summary>The nodes of the cluster; empty: the service has its store to itself.</summary>
    public required IReadOnlyList<NodeAnswer> Nodes { get; init; }

    /// <summary>When they were read.</summary>
    public required StoredTime Time { get; init; }

    /// <summary>When the service started.</summary>
    public required StoredTime Since { get; init; }

    /// <summary>Sessions by transport.</summary>
    public required IReadOnlyDictionary<string, int> Sessions { get; init; }

    /// <summary>Sessions with something that they have not acknowledged.</summary>
    public required int Behind { get; init; }

    /// <summary>Notifications sent and not yet acknowledged.</summary>
    public required long Waiting { get; init; }

    /// <summary>People who are connected.</summary>
    public required int Live { get; init; }

    /// <summary>People who are known.</summary>
    public required long People { get; init; }

    /// <summary>Notifications stored in the last 60 seconds.</summary>
    public required long LastMinute { get; init; }

    /// <summary>Notifications stored since the start.</summary>
    public required long Sent { get; init; }

    /// <summary>What is set aside.</summary>
    public required long SetAside { get; init; }

    /// <summary>Intakes.</summary>
    public required int Intakes { get; init; }

    /// <summary>Those of them whose source can't be used now.</summary>
    public required int IntakesWaiting { get; init; }

    /// <summary>Rules in force.</summary>
    public required int Rules { get; init; }

    /// <summary>Their version; 0: none was loaded.</summary>
    public required long RulesVersion { get; init; }

    /// <summary>Rules that failed since the start.</summary>
    public required int RulesFailed { get; init; }

    /// <summary>How many roles somebody holds, and how many topics somebody follows.</summary>
    public required long Channels { get; init; }

    /// <summary>Origins that were refused since the start.</summary>
    public required int OriginsRefused { get; init; }

    /// <summary>The first steps that were taken.</summary>
    [OneOf("key", "sent", "connected", "received", "second", "rules", "webhook")]
    public required IReadOnlyList<string> Steps { get; init; }

    /// <summary>Operators of the console.</summary>
    public required int Operators { get; init; }

    /// <summary>Bugs since the start.</summary>
    public required long Bugs { get; init; }

    /// <summary>Failures of the store since the start.</summary>
    public required long StoreFailures { get; init; }

    /// <summary>Bytes of the history on disk.</summary>
    public required long HistoryBytes { get; init; }

    /// <summary>Bytes that are free on its disk; absent: only the database server knows.</summary>
    public required long? FreeBytes { get; init; }

    /// <summary>Limits by how much of each is used, the fullest first.</summary>
    public required IReadOnlyList<LimitState> Limits { get; init; }

    /// <summary>The newest lines of the audit trail.</summary>
    public required IReadOnlyList<Admin.ActAnswer> Changed { get; init; }
}
