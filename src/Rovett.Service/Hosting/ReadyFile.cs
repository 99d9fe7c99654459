using System.Text.Json;
using Rovett.Service.Credentials;
using Rovett.Service.Http;

namespace Rovett.Service.Hosting;

/// <summary>The file that tells scripts where the service listens and its first credentials.</summary>
static class ReadyFile
{
    /// <returns>The file aside that holds what the ready file will.</returns>
    public static string WriteAside(string file, string url, string? metricsUrl, string? consoleLink,
        IReadOnlyList<FirstCredentials> credentials)
    {
        var buffer = new MemoryStream();
        using (var json = new Utf8JsonWriter(buffer, Json.Writing))
        {
            json.WriteStartObject();
            json.WriteString("url", url);
            if (metricsUrl is not null) json.WriteString("metrics", metricsUrl);
            if (consoleLink is not null) json.WriteString("consoleSignUp", $"{url}/console#sign-up={consoleLink}");
            foreach (var made in credentials)
            {
                if (made.Space == "main") WriteCredentials(json, "credentials", made);
            }
            if (credentials.Any(c => c.Space != "main"))
            {
                json.WriteStartObject("spaces");
                foreach (var made in credentials.Where(c => c.Space != "main")) WriteCredentials(json, made.Space, made);
                json.WriteEndObject();
            }
            json.WriteEndObject();
        }
        try
        {
            return WriteAside(file, buffer.ToArray());
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException)
        {
            throw new IOException($"The ready file '{file}' can't be written: {error.Message} Nothing was stored of the credentials; " +
                "the next start makes new ones.", error);
        }
    }

    /// <summary>Writes a file that only its owner may read; aside and then moved, so that a script never reads half of it.</summary>
    public static void WriteSecret(string file, byte[] bytes) => File.Move(WriteAside(file, bytes), file, overwrite: true);

    static string WriteAside(string file, byte[] bytes)
    {
        var aside = file + ".part";
        File.Delete(aside); // one that is left over may have another mode
        using var stream = new FileStream(aside, new FileStreamOptions
        { Mode = FileMode.CreateNew, Access = FileAccess.Write, UnixCreateMode = UnixFileMode.UserRead | UnixFileMode.UserWrite });
        stream.Write(bytes);
        stream.Flush(flushToDisk: true);
        return aside;
    }

    static void WriteCredentials(Utf8JsonWriter json, string name, FirstCredentials made)
    {
        json.WriteStartObject(name);
        json.WriteString("adminKey", made.AdminKey);
        json.WriteString("tokenSigningSecret", made.TokenSigningSecret);
        json.WriteEndObject();
    }
}
