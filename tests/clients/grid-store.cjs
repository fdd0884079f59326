// The store of another grid for version 4. Prints what it found as JSON.
const path = require('path');
const base = process.argv[2];
require('./browser.cjs').open(base);
const load = (name) => require(path.join(__dirname, 'node_modules/devextreme/cjs/common/data', name));
const ODataStore = load('odata/store').default;

const store = new ODataStore({ url: `${base}Stations`, key: 'Id', keyType: 'Int64', version: 4, fieldTypes: { DepthM: 'Decimal' } });
const day = (text) => new Date(`${text}T00:00:00Z`);

async function main() {
  const found = { total: await store.totalCount() };
  // Asked for nothing, it follows next links by itself; asked for a number, it takes one answer.
  found.all = (await store.load({})).length;
  found.taken = (await store.load({ skip: 0, take: 200 })).length;
  found.number = (await store.load({ filter: ['DepthM', '>', 300] })).length;
  found.date = (await store.load({ filter: ['OpenedOn', '=', day('2020-01-02')] })).length;
  found.dates = (await store.load({ filter: [['OpenedOn', '>=', day('2020-01-02')], 'and', ['OpenedOn', '<', day('2020-01-05')]] })).length;
  found.sorted = (await store.load({ filter: ['Name', 'contains', 'station 24'], sort: [{ selector: 'DepthM', desc: true }], select: ['Id'] })).map((row) => row.Id).slice(0, 3);
  found.byKey = (await store.byKey(3)).Name;
  found.expanded = (await store.load({ expand: ['Visits'], take: 1 }))[0].Visits.length;
  const made = await store.insert({ Id: 0, Name: 'New', OpenedOn: day('2024-05-01'), DepthM: 7.25, Active: true });
  found.made = [made.Id > 250, made.OpenedOn, made.DepthM];
  await store.update(made.Id, { Name: 'Changed' });
  found.changed = (await store.byKey(made.Id)).Name;
  await store.remove(made.Id);
  found.gone = await store.byKey(made.Id).then(() => 'there', (fault) => fault.httpStatus);
  found.left = await store.totalCount();
  return found;
}

main().then((found) => { console.log(JSON.stringify(found)); process.exit(0); }, (fault) => { console.error(fault); process.exit(1); });
