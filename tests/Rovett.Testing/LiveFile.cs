using System.Text;

namespace Rovett.Testing;

/// <summary>A file that a running service writes, shortens and removes as it likes.</summary>
public static class LiveFile
{
    /// <summary>What can be read of it from beginning to end, each byte as one character. Nothing, when it is gone.</summary>
    public static string Text(string path)
    {
        try
        {
            using var file = new FileStream(path, FileMode.Open, FileAccess.Read, FileShare.ReadWrite | FileShare.Delete);
            using var bytes = new MemoryStream();
            file.CopyTo(bytes);
            return Encoding.Latin1.GetString(bytes.GetBuffer(), 0, (int)bytes.Length);
        }
        catch (FileNotFoundException)
        {
            return "";
        }
    }
}
