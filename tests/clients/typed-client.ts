// A client that was generated from the metadata document: what it cannot say does not compile. Prints what it found as JSON.
import { FetchClient } from "@odata2ts/http-client-fetch";
import { AlderService } from "./generated/AlderService.js";

const service = new AlderService(new FetchClient(), process.argv[2]!.replace(/\/$/, ""));

async function main() {
  const found: Record<string, unknown> = {};
  const top = await service.Stations().query((q) => q.count().top(200));
  found.taken = [top.data.value.length, top.data["@odata.count"]];
  found.number = (await service.Stations().query((b, q) => b.filter(q.DepthM.gt(300)).select("Id", "Name"))).data.value.length;
  const day = await service.Stations().query((b, q) => b.filter(q.OpenedOn.eq("2020-01-02")).expand("Visits"));
  found.date = day.data.value.map((station) => [station.Id, station.Visits?.length]);
  const made = await service.Stations().create({ Name: "Typed", OpenedOn: "2024-05-01", DepthM: 3.5, Active: true, Version: 1 });
  found.made = [made.data.Id > 250, made.data.DepthM];
  await service.Stations(made.data.Id).patch({ Name: "Changed" });
  found.changed = (await service.Stations(made.data.Id).query()).data.Name;
  await service.Stations(made.data.Id).delete();
  found.gone = await service.Stations(made.data.Id).query().then(() => "there", (fault: Error) => fault.message);
  return found;
}

main().then((found) => console.log(JSON.stringify(found)), (fault) => { console.error(fault); process.exit(1); });
