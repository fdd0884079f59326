// A client that was generated from the OpenAPI document: what it cannot say does not compile. Prints what it found as JSON.
using System.Net.Http.Headers;
using System.Text;
using System.Text.Json;
using RapidGable.Clients.Fieldwork;

var (root, account) = (args[0], args[1]);
using var http = new HttpClient();
http.DefaultRequestHeaders.Authorization = new AuthenticationHeaderValue("Basic", Convert.ToBase64String(Encoding.UTF8.GetBytes(account)));
var client = new FieldworkClient(http) { BaseUrl = root };
var found = new Dictionary<string, object>();

var first = await client.ListVisitsAsync(limit: 5, total: true, sort: ["id"]);
found["list"] = new object[] { first.Rows.Select(v => v.Id), first.Total > 100, first.Next is not null };

var planned = await client.ListVisitsAsync(done_at: "null", station_code: "AB-00*", sort: ["-planned_for", "id"], limit: 3);
found["filtered"] = planned.Rows.Select(v => v.Station_code![..5]);

var made = await client.CreateVisitsAsync(
    new VisitCreate
    {
        Station_id = 1,
        Planned_for = new DateOnly(2031, 5, 1),
        Purpose = "Visit from C#",
    }
);
found["created"] = new object[] { made.Id > 0, made.Station_code! };

var changed = await client.UpdateVisitAsync(made.Id, "*", new VisitUpdate { Purpose = "Changed" });
found["changed"] = changed.Purpose;
found["conflict"] = await CodeOfAsync(() => client.UpdateVisitAsync(made.Id, "\"an-older-state\"", new VisitUpdate { Purpose = "Again" }));
found["refused"] = await CodeOfAsync(() => client.UpdateVisitAsync(made.Id, "*", new VisitUpdate { Purpose = "x" }));

await client.DeleteVisitAsync(made.Id, "*");
found["gone"] = await CodeOfAsync(() => client.GetVisitAsync(made.Id));
Console.WriteLine(JsonSerializer.Serialize(found));

static async Task<string> CodeOfAsync(Func<Task> call)
{
    try
    {
        await call();
        return "nothing is wrong";
    }
    catch (ApiException<Problem> exception)
    {
        return $"{exception.StatusCode} {exception.Result.Code}";
    }
}
