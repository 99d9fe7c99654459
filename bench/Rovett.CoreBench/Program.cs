using BenchmarkDotNet.Columns;
using BenchmarkDotNet.Configs;
using BenchmarkDotNet.Diagnosers;
using BenchmarkDotNet.Exporters;
using BenchmarkDotNet.Jobs;
using BenchmarkDotNet.Loggers;
using BenchmarkDotNet.Running;
using BenchmarkDotNet.Toolchains.InProcess.Emit;
using Rovett.CoreBench;

if (args is ["growth"])
{
    Growth.Run();
    return;
}

if (args is ["long"])
{
    LongCommands.Run();
    return;
}

if (args is ["holding", .. var databases])
{
    Holding.Run(databases);
    return;
}

if (args is ["fences", var database, var seconds])
{
    Fences.Run(database, int.Parse(seconds, System.Globalization.CultureInfo.InvariantCulture));
    return;
}

// In this process, so that nothing is built or restored while it runs.
var config = ManualConfig.CreateEmpty()
    .AddJob(Job.ShortRun.WithWarmupCount(5).WithIterationCount(12).WithToolchain(InProcessEmitToolchain.Instance))
    .AddDiagnoser(MemoryDiagnoser.Default)
    .AddColumnProvider(DefaultColumnProviders.Instance)
    .AddExporter(MarkdownExporter.GitHub)
    .AddLogger(ConsoleLogger.Default)
    .WithArtifactsPath(Path.Combine(Path.GetTempPath(), "rovett-corebench"));
BenchmarkSwitcher.FromTypes([typeof(TotalsBench), typeof(FanOutBench), typeof(CatchUpBench), typeof(ParserBench)])
    .Run(args.Length > 0 ? args : ["--filter", "*"], config);
