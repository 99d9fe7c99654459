namespace Rovett.Service.Live;

/// <summary>Where a session's bytes go.</summary>
public interface ISessionOutput
{
    /// <summary>Returns once the socket took the bytes.</summary>
    ValueTask Write(ReadOnlyMemory<byte> bytes);
}
