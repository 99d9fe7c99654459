namespace Rovett.Simulator;

/// <summary>What is left out of the service on purpose: the simulator must find each.</summary>
/// <param name="WithoutFence">A node that another took the space from may still store.</param>
/// <param name="WithoutReadCheck">It may still answer from what it remembers.</param>
/// <param name="WithoutLettingGo">A node that takes a space again goes on from what it remembers.</param>
public sealed record Controls(bool WithoutFence = false, bool WithoutReadCheck = false, bool WithoutLettingGo = false);
