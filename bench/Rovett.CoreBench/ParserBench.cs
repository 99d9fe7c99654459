using System.Text;
using BenchmarkDotNet.Attributes;
using Rovett.Core.Wire;

namespace Rovett.CoreBench;

/// <summary>What a device sends most: an acknowledgement.</summary>
public class ParserBench
{
    readonly CursorSeal seal = new(new byte[32], Epoch.New(), "main", "cursor");
    string cursor = "";
    byte[] ack = [];

    /// <summary>Makes one.</summary>
    [GlobalSetup]
    public void Setup()
    {
        cursor = seal.Seal(new Position(123_456));
        ack = Encoding.UTF8.GetBytes($$"""{"kind":"ack","upTo":"{{cursor}}"}""");
    }

    /// <summary>Reads it.</summary>
    [Benchmark]
    public DeviceMessage Ack() => DeviceMessage.Parse(ack, seal);

    /// <summary>Opens its cursor.</summary>
    [Benchmark]
    public CursorState Cursor() => seal.Open(cursor, out _);
}
