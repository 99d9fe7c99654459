namespace Rovett.Simulator;

/// <summary>What is left out of the service on purpose: the simulator must find each.</summary>
/// <param name="WithoutFence">A node that another took the space from may still store.</param>
/// <param name="WithoutReadCheck">It may still answer from what it remembers.</param>
/// <param name="WithoutLettingGo">A node that takes a space again goes on from what it remembers.</param>
/// <param name="WithLostFrames">Now and then a node that holds sessions misses what a commit means for them.</param>
/// <param name="WithSplitLists">What a commit means is applied out of order: changes of plans last.</param>
/// <param name="WithSkippedEntry">A session that stays goes on one entry further than its device stands.</param>
/// <param name="TakenCountsAsWritten">What was taken from a session that is replaced before it is written is not sent by its successor.</param>
public sealed record Controls(bool WithoutFence = false, bool WithoutReadCheck = false, bool WithoutLettingGo = false,
    bool WithLostFrames = false, bool WithSplitLists = false, bool WithSkippedEntry = false,
    bool TakenCountsAsWritten = false);
