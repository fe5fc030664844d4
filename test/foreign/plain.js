// A service without versions, batches, links and counts of its own: simple-odata-server.
const Datastore = require("nedb");
const server = require("simple-odata-server");
const adapter = require("simple-odata-server-nedb");
const { serve } = require("./sets");

// The ids are numbers written as texts, in _id.
serve((sets, address) => {
  const model = { namespace: "lab", entityTypes: {}, entitySets: {} };
  const stores = {};
  for (const [name, set] of Object.entries(sets)) {
    const properties = { _id: { type: "Edm.String", key: true, nullable: false } };
    for (const [field, type] of Object.entries(set.fields)) if (field !== "_id") properties[field] = { type };
    model.entityTypes[name + "_type"] = properties;
    model.entitySets[name] = { entityType: `lab.${name}_type` };
    stores[name] = new Datastore({ inMemoryOnly: true });
    for (const field of set.unique || []) stores[name].ensureIndex({ fieldName: field, unique: true });
    stores[name].insert(set.rows);
  }
  let last = 2000;
  const odata = server(address).model(model).adapter(adapter((set, done) => done(null, stores[set])));
  odata.beforeInsert((set, doc, req, done) => { doc._id = String(last += 3); done(); });
  return {
    handle: (req, res) => odata.handle(req, res),
    rows: (name) => new Promise((done, fail) => stores[name].find({}, (err, rows) => (err ? fail(err) : done(rows)))),
  };
});
