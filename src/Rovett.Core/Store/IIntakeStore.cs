namespace Rovett.Core.Store;

/// <summary>Intakes: how far each has read its source, and whether it is paused. Part of <see cref="ILedgerStore"/>.</summary>
public interface IIntakeStore
{
    /// <summary>How far an intake has read, part by part.</summary>
    IReadOnlyList<IntakePosition> IntakePositions(int space, string intake);
    /// <summary>Stores how far an intake has read one part.</summary>
    void SaveIntakePosition(int space, string intake, IntakePosition position);
    /// <summary>Whether an intake is paused.</summary>
    bool IsIntakePaused(int space, string intake);
    /// <summary>Pauses an intake or resumes it.</summary>
    void SaveIntakePaused(int space, string intake, bool isPaused);
    /// <summary>Whether something of this origin is set aside.</summary>
    /// <param name="space">The space.</param>
    /// <param name="origin">As in <see cref="SetAsideRow.Origin"/>.</param>
    bool IsSetAside(int space, string origin);
}
