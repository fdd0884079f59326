// A client whose types were generated from the OpenAPI document: what it cannot say does not compile. Prints what it found as JSON.
import createClient from "openapi-fetch";
import type { paths } from "./generated/fieldwork.js";

const [root, account] = process.argv.slice(2) as [string, string];
const client = createClient<paths, "application/json" | "application/problem+json">({
  baseUrl: root.replace(/\/$/, ""),
  querySerializer: { array: { style: "form", explode: false } },
  headers: { Authorization: `Basic ${Buffer.from(account).toString("base64")}` },
});

async function main() {
  const found: Record<string, unknown> = {};

  const first = await client.GET("/Visits", { params: { query: { limit: 5, total: true, sort: ["id"] } } });
  found.list = [first.data!.rows.map((visit) => visit.id), first.data!.total! > 100, first.data!.next !== undefined];

  const planned = await client.GET("/Visits", {
    params: { query: { done_at: "null", station_code: "AB-00*", sort: ["-planned_for"], fields: ["id", "station_code"], limit: 3 } },
  });
  found.filtered = planned.data!.rows.map((visit) => visit.station_code!.slice(0, 5));

  const made = await client.POST("/Visits", { body: { station_id: 1, planned_for: "2031-05-01", purpose: "Typed visit" } });
  const id = (made.data as { id: number }).id;
  const tag = made.response.headers.get("ETag")!;
  found.created = [made.response.status, made.response.headers.get("Location")!.endsWith(`/Visits/${id}`)];

  const at = (match: string) => ({ params: { path: { id }, header: { "If-Match": match } } });
  const changed = await client.PATCH("/Visits/{id}", { ...at(tag), body: { purpose: "Changed" } });
  found.changed = [changed.response.status, changed.data!.purpose, changed.data!.station_code];

  const conflict = await client.PATCH("/Visits/{id}", { ...at(tag), body: { purpose: "Changed again" } });
  found.conflict = [conflict.response.status, conflict.error!.code];

  const refused = await client.PATCH("/Visits/{id}", { ...at("*"), body: { purpose: "x" } });
  found.refused = [refused.response.status, refused.error!.errors!.map((fault) => fault.pointer)];

  found.deleted = (await client.DELETE("/Visits/{id}", at("*"))).response.status;
  found.gone = (await client.GET("/Visits/{id}", { params: { path: { id } } })).error!.code;
  return found;
}

main().then((found) => console.log(JSON.stringify(found)), (fault) => { console.error(fault); process.exit(1); });
