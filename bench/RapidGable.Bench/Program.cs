// Measures the service against programs written by hand, in turn and in one run, so that a slow moment of the machine hits all of them.
//
// Arguments: the project's folder; "before=PATH" with another build's gable.dll to compare with; "seconds=N" for each measurement; and
// what to measure only: "load", with an engine and a part of a route's name where given, such as "load sqlite newest"; "guards"; or
// "catalog".
var root = args[0];
var before = args.FirstOrDefault(a => a.StartsWith("before=", StringComparison.Ordinal))?["before=".Length..];
if (args.FirstOrDefault(a => a.StartsWith("seconds=", StringComparison.Ordinal)) is { } seconds)
    LoadBench.Seconds = int.Parse(seconds["seconds=".Length..]);
var what = args.Skip(1).Where(a => !a.Contains('=')).ToList();
var folder = Directory.CreateTempSubdirectory("gable-bench").FullName;
try
{
    switch (what.FirstOrDefault())
    {
        case "guards":
            Console.WriteLine(await GuardBench.RunAsync(folder));
            break;
        case "catalog":
            await CatalogBench.RunAsync(folder);
            break;
        case "load":
            await LoadBench.RunAsync(
                folder,
                root,
                what.ElementAtOrDefault(1),
                string.Join(' ', what.Skip(2)) is { Length: > 0 } r ? r : null,
                before
            );
            break;
        default:
            await CatalogBench.RunAsync(folder);
            await LoadBench.RunAsync(folder, root, null, null, before);
            break;
    }
}
finally
{
    Directory.Delete(folder, recursive: true);
}
