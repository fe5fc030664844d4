// A service without versions, batches, links and counts of its own: simple-odata-server.
const http = require("http");
const Datastore = require("nedb");
const server = require("simple-odata-server");
const adapter = require("simple-odata-server-nedb");

const model = {
  namespace: "lab",
  entityTypes: {
    ItemType: {
      _id: { type: "Edm.String", key: true, nullable: false },
      code: { type: "Edm.String" },
      name: { type: "Edm.String" },
      amount: { type: "Edm.Decimal" },
      active: { type: "Edm.Boolean" },
      level: { type: "Edm.Int32" },
      next: { type: "Edm.String" },
    },
  },
  entitySets: { items: { entityType: "lab.ItemType" } },
};

const db = new Datastore({ inMemoryOnly: true });
let odata;
const make = (address) => server(address).model(model).adapter(adapter((set, done) => done(null, db)));
const listener = http.createServer((req, res) => {
  if (req.url === "/all") { // for the test, not of the service
    db.find({}, (err, rows) => res.end(JSON.stringify(rows)));
    return;
  }
  odata.handle(req, res);
});
listener.listen(0, "127.0.0.1", () => {
  odata = make(`http://127.0.0.1:${listener.address().port}`);
  console.log(listener.address().port);
});
