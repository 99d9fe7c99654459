using System.Globalization;
using System.Runtime.InteropServices;
using Microsoft.Win32.SafeHandles;

namespace Rovett.Storage.Sqlite;

/// <summary>The exclusive right to a data folder. The kernel holds the lock (flock(2)), so it ends with the process,
/// however that ends.</summary>
public sealed partial class DataFolderLock : IDisposable
{
    const string LockName = "serve.lock", PidName = "serve.pid";
    const int LockExclusive = 2, LockNonBlocking = 4; // LOCK_EX, LOCK_NB of sys/file.h

    readonly SafeFileHandle handle;

    DataFolderLock(SafeFileHandle handle) => this.handle = handle;

    /// <summary>Locks a folder.</summary>
    /// <param name="folder">An existing data folder.</param>
    /// <exception cref="StoreException">Another process uses it; or the lock file can't be made.</exception>
    public static DataFolderLock Take(string folder)
    {
        var pidFile = Path.Combine(folder, PidName);
        SafeFileHandle? handle = null;
        try
        {
            handle = File.OpenHandle(Path.Combine(folder, LockName), FileMode.OpenOrCreate, FileAccess.ReadWrite, FileShare.None);
            // Asked for once more: opening a file for oneself alone can be set not to lock it.
            if (Flock((int)handle.DangerousGetHandle(), LockExclusive | LockNonBlocking) != 0)
            {
                handle.Dispose();
                throw InUse(folder, pidFile);
            }
            File.WriteAllText(pidFile, Environment.ProcessId.ToString(CultureInfo.InvariantCulture));
            return new DataFolderLock(handle);
        }
        catch (IOException) when (handle is null && File.Exists(Path.Combine(folder, LockName)))
        {
            throw InUse(folder, pidFile);
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException)
        {
            handle?.Dispose();
            throw new StoreException($"The data folder '{folder}' can't be used: {error.Message} Check its owner and free space, or " +
                $"choose another with --data.", error);
        }
    }

    static StoreException InUse(string folder, string pidFile)
    {
        string by;
        try
        {
            by = $"process {File.ReadAllText(pidFile).Trim()}";
        }
        catch (IOException)
        {
            by = "another process";
        }
        return new StoreException(
            $"The data folder '{folder}' is in use by {by}. Stop that process first, or choose another folder with --data.");
    }

    [LibraryImport("libc", EntryPoint = "flock", SetLastError = true)]
    private static partial int Flock(int descriptor, int operation);

    /// <summary>Gives the folder back.</summary>
    public void Dispose() => handle.Dispose();
}
