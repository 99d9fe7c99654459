namespace Rovett.Bench;

/// <summary>What a bare server does beyond passing bytes on; each includes those before it.</summary>
enum Duty
{
    /// <summary>Nothing.</summary>
    None,
    /// <summary>Keys and tokens are checked, requests are read as JSON, and a notification is written anew with its id and what is unread.</summary>
    Reads,
    /// <summary>What is sent is on disk before it is answered and passed on, who connects is noted, and what was missed is read from disk.</summary>
    Stores,
}
