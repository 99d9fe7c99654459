using System.Diagnostics;
using System.Net;
using System.Net.Sockets;

namespace Rovett.Service.Limits;

/// <summary>A bounded number of places that networks share: when all are taken, the network that has most gives up its
/// oldest for one that has
/// fewer. So nobody can keep others out by coming often, and nobody has to be told who is a proxy. Safe to call from any thread.</summary>
/// <param name="most">How many places.</param>
/// <param name="youngest">Who has been there for less is not put out for another of the same network: in a rush
/// everybody would be, before they had said a word.</param>
public sealed class FairRoom(int most, TimeSpan youngest)
{
    static readonly TimeSpan LookAgainAfter = TimeSpan.FromMilliseconds(50);

    sealed class Network
    {
        public readonly LinkedList<Place> Movable = [];
        public int Count;
    }

    /// <summary>One place; to be disposed when it is left.</summary>
    public sealed class Place : IDisposable
    {
        readonly FairRoom room;
        readonly Action<object> putOut;
        readonly object what;
        internal readonly long Since = Stopwatch.GetTimestamp();
        internal LinkedListNode<Place>? Node; // null: it is not given up for others
        internal bool Left;

        internal Place(FairRoom room, IPAddress network, Action<object> putOut, object what)
        {
            (this.room, Of, this.putOut, this.what) = (room, network, putOut, what);
        }

        internal void PutOut() => putOut(what);

        internal IPAddress Of { get; }

        /// <summary>From now on it is not given up for others.</summary>
        public void Keep() => room.Keep(this);

        /// <inheritdoc/>
        public void Dispose() => room.Leave(this);
    }

    int most = most;

    /// <summary>How many places there are. When fewer are left than are taken, those leave in their own time.</summary>
    public int Most { get => Volatile.Read(ref most); set => Volatile.Write(ref most, value); }

    readonly Lock gate = new();
    readonly Dictionary<IPAddress, Network> networks = [];
    IPAddress? largest;
    long largestAt;
    int taken;
    long refused;

    /// <summary>How many places are taken.</summary>
    public int Taken => Volatile.Read(ref taken);

    /// <summary>How many were refused or put out since the start.</summary>
    public long Refused => Interlocked.Read(ref refused);

    /// <summary>Takes a place.</summary>
    /// <param name="network">Whose: see <see cref="NetworkOf"/>.</param>
    /// <param name="putOut">Called when the place is given to another; it is left then.</param>
    /// <returns>Null when there is none.</returns>
    public Place? Enter(IPAddress network, Action putOut) => Enter(network, static put => ((Action)put)(), putOut);

    /// <summary>Takes a place.</summary>
    /// <param name="network">Whose: see <see cref="NetworkOf"/>.</param>
    /// <param name="putOut">Called when the place is given to another; it is left then.</param>
    /// <param name="what">What it is called with.</param>
    /// <returns>Null when there is none.</returns>
    public Place? Enter(IPAddress network, Action<object> putOut, object what)
    {
        Place? goes = null;
        Place? made = null;
        lock (gate)
        {
            if (taken < Most || (goes = WhoGoes(network)) is not null)
            {
                if (goes is not null) Remove(goes);
                if (!networks.TryGetValue(network, out var mine)) networks[network] = mine = new Network();
                made = new Place(this, network, putOut, what);
                made.Node = mine.Movable.AddLast(made);
                mine.Count++;
                taken++;
            }
        }
        if (goes is not null || made is null) Interlocked.Increment(ref refused);
        goes?.PutOut();
        return made;
    }

    Place? WhoGoes(IPAddress network)
    {
        var mine = networks.GetValueOrDefault(network);
        if (Largest() is { Movable.First: { } first } other && other != mine && other.Count > (mine?.Count ?? 0) + 1) return first.Value;
        return mine?.Movable.First is { } own && Stopwatch.GetElapsedTime(own.Value.Since) >= youngest ? own.Value : null;
    }

    /// <summary>The network with most places, as it was a moment ago.</summary>
    Network? Largest()
    {
        if (largest is not null && Stopwatch.GetElapsedTime(largestAt) < LookAgainAfter && networks.TryGetValue(largest, out var known)
            && known.Movable.Count > 0)
        {
            return known;
        }
        Network? found = null;
        foreach (var (address, one) in networks)
        {
            if (one.Movable.Count > 0 && one.Count > (found?.Count ?? 0)) (largest, found) = (address, one);
        }
        largestAt = Stopwatch.GetTimestamp();
        return found;
    }

    void Keep(Place place)
    {
        lock (gate)
        {
            if (!place.Left) MakeImmovable(place);
        }
    }

    static void MakeImmovable(Place place)
    {
        if (place.Node is { } node) node.List!.Remove(node);
        place.Node = null;
    }

    void Leave(Place place)
    {
        lock (gate) Remove(place);
    }

    void Remove(Place place)
    {
        if (place.Left) return;
        place.Left = true;
        MakeImmovable(place);
        var network = networks[place.Of];
        if (--network.Count == 0) networks.Remove(place.Of);
        taken--;
    }

    /// <summary>What counts as one network: an IPv4 address, or the 64 bits of IPv6 that one subscriber has at least.</summary>
    public static IPAddress NetworkOf(IPAddress? address)
    {
        if (address is null) return IPAddress.None;
        if (address.IsIPv4MappedToIPv6) return address.MapToIPv4();
        if (address.AddressFamily != AddressFamily.InterNetworkV6) return address;
        Span<byte> bytes = stackalloc byte[16];
        address.TryWriteBytes(bytes, out _);
        bytes[8..].Clear();
        return new IPAddress(bytes);
    }
}
