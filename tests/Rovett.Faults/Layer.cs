using System.Diagnostics;
using Rovett.Testing;
using Shouldly;

namespace Rovett.Faults;

/// <summary>Libraries in C that are loaded under the service, and stand between it and its disk.</summary>
static class Layer
{
    /// <summary>Builds one into a folder, once.</summary>
    public static async Task<string> Build(string folder, string name)
    {
        var layer = Path.Combine(folder, name + ".so");
        if (File.Exists(layer)) return layer;
        using var gcc = Process.Start("gcc",
            ["-shared", "-fPIC", "-O2", "-o", layer, Path.Combine(ServiceProcess.Root, "tests", "Rovett.Faults", name + ".c"), "-ldl",
            "-lpthread"]);
        await gcc.WaitForExitAsync();
        gcc.ExitCode.ShouldBe(0);
        return layer;
    }
}
