// The data manager of a grid for version 4: pages with counts, filters, changes one by one and in a batch. Prints what it found as JSON.
const base = process.argv[2];
require('./browser.cjs').open(base);
const { DataManager, ODataV4Adaptor, Predicate, Query } = require('@syncfusion/ej2-data');

const stations = new DataManager({ url: `${base}Stations`, adaptor: new ODataV4Adaptor() });
const day = (text) => new Date(`${text}T00:00:00Z`);

async function main() {
  const found = {};
  const first = await stations.executeQuery(new Query().page(1, 200).requiresCount());
  const second = await stations.executeQuery(new Query().page(2, 200).requiresCount());
  found.pages = [first.result.length, second.result.length, first.count];
  found.number = (await stations.executeQuery(new Query().where('DepthM', 'greaterthan', 300))).result.length;
  found.date = (await stations.executeQuery(new Query().where(new Predicate('OpenedOn', 'equal', day('2020-01-02'))))).result.length;
  found.dates = (await stations.executeQuery(new Query().where(new Predicate('OpenedOn', 'lessthan', day('2020-01-05'))))).result.length;
  const sorted = new Query().where('Name', 'contains', 'station 24', true).sortBy('DepthM', 'descending').select(['Id', 'Name']);
  found.sorted = (await stations.executeQuery(sorted)).result.map((row) => row.Id).slice(0, 3);
  found.expanded = (await stations.executeQuery(new Query().expand('Visits').take(1))).result[0].Visits.length;
  // A grid sends 0 for a key that the database makes.
  const made = await stations.insert({ Id: 0, Name: 'New', OpenedOn: day('2024-05-01'), DepthM: 2.5, Active: true });
  found.made = [made.Id > 250, made.OpenedOn, made.DepthM];
  const changed = await stations.update('Id', { Id: made.Id, Name: 'Changed' });
  found.changed = changed.Name;
  // In a batch it sends the state that it has read, which is a former one here: nothing changes.
  const stale = { Id: made.Id, Name: 'Lost', '@odata.etag': made['@odata.etag'] };
  await stations.saveChanges({ addedRecords: [], changedRecords: [stale], deletedRecords: [] }, 'Id', undefined).catch(() => null);
  found.conflict = (await stations.executeQuery(new Query().where('Id', 'equal', made.Id))).result[0].Name;
  const batch = { addedRecords: [{ Id: -1, Name: 'Of a batch', Active: true }], changedRecords: [{ Id: made.Id, Name: 'Changed again' }], deletedRecords: [] };
  await stations.saveChanges(batch, 'Id', undefined);
  const after = await stations.executeQuery(new Query().where('Id', 'greaterthanorequal', made.Id).sortBy('Id'));
  found.batch = after.result.map((row) => row.Name);
  for (const row of after.result) await stations.remove('Id', row.Id);
  found.left = (await stations.executeQuery(new Query().page(1, 10).requiresCount())).count;
  return found;
}

main().then((found) => { console.log(JSON.stringify(found)); process.exit(0); }, (fault) => { console.error(fault); process.exit(1); });
